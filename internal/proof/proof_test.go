package main

import (
	"context"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestProof goes through the smallest of the pools; make prove goes through all.
func TestProof(t *testing.T) {
	r, err := explore(kinds()[1])
	require.NoError(t, err)
	require.Greater(t, r.states, 300_000)
}

// TestProofWouldNotice builds the swap without one of its rules, and the proof must find that out.
func TestProofWouldNotice(t *testing.T) {
	for _, rule := range []string{"R1", "R3", "R5", "R6"} {
		t.Run(rule, func(t *testing.T) {
			bin := filepath.Join(t.TempDir(), "proof")
			out, err := exec.Command("go", "build", "-tags", "without_r"+rule[1:], "-o", bin, ".").CombinedOutput()
			require.NoError(t, err, string(out))
			ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
			defer cancel()
			out, err = exec.CommandContext(ctx, bin).CombinedOutput()
			require.Error(t, err, "it went through without %s", rule)
			require.Contains(t, string(out), rule+":")
			require.Contains(t, string(out), "after\n  plan", "it says how it came to that")
		})
	}
}

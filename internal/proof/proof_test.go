package main

import (
	"context"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestProof goes through two of the pools; make prove goes through all.
func TestProof(t *testing.T) {
	for _, k := range kinds() {
		if k.name == "the same, the old one gone" && k.cold || k.unit {
			r, err := explore(k)
			require.NoError(t, err)
			require.Greater(t, r.states, 200_000)
		}
	}
}

// TestProofWouldNotice builds the swap without one of its rules, and the proof must find that out.
func TestProofWouldNotice(t *testing.T) {
	for rule, where := range map[string]string{"R1": "a drive may fail", "R2": "off the map", "R3": "a bay free", "R4": "second thoughts", "R5": "off the map", "R6": "a log device"} {
		t.Run(rule, func(t *testing.T) {
			bin := filepath.Join(t.TempDir(), "proof")
			out, err := exec.Command("go", "build", "-tags", "without_r"+rule[1:], "-o", bin, ".").CombinedOutput()
			require.NoError(t, err, string(out))
			ctx, cancel := context.WithTimeout(t.Context(), 4*time.Minute)
			defer cancel()
			out, err = exec.CommandContext(ctx, bin, where).CombinedOutput()
			require.Error(t, err, "it went through without %s", rule)
			require.Contains(t, string(out), rule+":")
			require.Contains(t, string(out), "after\n  plan", "it says how it came to that")
		})
	}
}

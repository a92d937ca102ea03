package main

import (
	"context"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestProof goes through some of the pools; make prove goes through all.
func TestProof(t *testing.T) {
	for _, k := range kinds() {
		if k.name == "the same, the old one gone" && k.cold || k.unit || k.hand || k.liar || k.used || k.anew ||
			k.twin && k.free {
			r, err := explore(k)
			require.NoError(t, err, k.name)
			least := 200_000
			if k.hand || k.liar || k.used || k.twin || k.anew {
				least = 5_000
			}
			require.Greater(t, r.states, least, k.name)
		}
	}
}

// TestProofWouldNotice builds the swap without one of its rules, and the proof must find that out.
func TestProofWouldNotice(t *testing.T) {
	for tag, c := range map[string][2]string{"r1": {"R1", "a drive fails"}, "r2": {"R2", "place removed"},
		"r3": {"R3", "a bay free"}, "r4": {"R4", "second thoughts"}, "r5": {"R5", "place removed"},
		"r6":    {"R6", "a log device"},
		"seats": {"R1", "without margin"}, "uses": {"R1", "something else uses"}, "witness": {"R1", "accounts " +
			"that differ"}} {
		rule, where := c[0], c[1]
		t.Run(tag, func(t *testing.T) {
			bin := filepath.Join(t.TempDir(), "proof")
			out, err := exec.Command("go", "build", "-tags", "without_"+tag, "-o", bin, ".").CombinedOutput()
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

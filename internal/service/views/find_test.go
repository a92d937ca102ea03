package views

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestHolds: a name is found by a part of it, however either is written, as if both were in capitals.
func TestHolds(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	letters := []rune("aAbBzZ09-/ üÜéÉ")
	text := func(most int) string {
		out := make([]rune, r.IntN(most))
		for i := range out {
			out[i] = letters[r.IntN(len(letters))]
		}
		return string(out)
	}
	found := map[int]int{}
	for range 200_000 {
		name, word := text(9), strings.ToUpper(text(4))
		want, upper := 0, strings.ToUpper(name)
		switch {
		case word == "":
		case strings.HasPrefix(upper, word) || strings.HasSuffix(upper, word):
			want = 2
		case strings.Contains(upper, word):
			want = 1
		}
		require.Equal(t, want, holds(name, word), "%q in %q", word, name)
		found[want]++
	}
	require.Greater(t, min(found[0], found[1], found[2]), 1000)
}

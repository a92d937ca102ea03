package secret

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTokens: tokens are long, lower-case, carry their kind and are never the same; what is kept of one does not show
// it.
func TestTokens(t *testing.T) {
	seen := map[string]bool{}
	for range 1000 {
		token := New(PersonPrefix)
		rest, ok := strings.CutPrefix(token, PersonPrefix)
		require.True(t, ok)
		require.Len(t, rest, 32, "160 bits in base 32")
		require.Equal(t, strings.ToLower(token), token)
		require.False(t, seen[token])
		seen[token] = true
		require.Len(t, Hash(token), 32)
		require.NotContains(t, string(Hash(token)), rest)
	}
	require.Equal(t, Hash("a"), Hash("a"))
	require.NotEqual(t, Hash("a"), Hash("b"))
}

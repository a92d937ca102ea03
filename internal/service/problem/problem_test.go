package problem

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/swap"
	"lantern/internal/store"
)

// TestAs: what is meant for people is told as it is; of everything else nothing gets out.
func TestAs(t *testing.T) {
	p := New(404, "no-pool", "Do this.", "No %s.", "pool")
	require.Same(t, p, As(fmt.Errorf("deeper: %w", p)))
	require.Equal(t, "No pool. Do this.", p.Error())
	require.False(t, p.Permanent)
	require.True(t, Forever(422, "bad-report", "", "It is refused.").Permanent)
	refused := As(&swap.Refusal{Type: "held", Says: "It is held 100 %.", Do: "Resume it."})
	require.Equal(
		t,
		[]any{409, "held", "It is held 100 %.", "Resume it."},
		[]any{refused.Status, refused.Type, refused.Title, refused.Do},
	)
	require.Equal(t, 507, As(fmt.Errorf("write: %w", store.ErrFull)).Status)
	require.Equal(t, 503, As(store.ErrUnwritable).Status)
	inner := As(errors.New("the password is hunter2"))
	require.Equal(t, 500, inner.Status)
	require.NotContains(t, inner.Error(), "hunter2")
}

// TestSentences: a title ends with one mark, and begins with a capital letter unless a name may be there.
func TestSentences(t *testing.T) {
	for _, x := range [][2]string{
		{"no metric \"x\"; did you mean y?", "No metric \"x\"; did you mean y?"},
		{"it is too small.", "it is too small."},
		{"no-break is a pool", "no-break is a pool."},
		{"such as 1 to 3 ..", "such as 1 to 3 ..."},
	} {
		require.Equal(t, x[1], New(422, "bad", "", "%s.", x[0]).Title)
	}
}

// TestMissing: a name that is not there is answered with the one that was meant, if one is near.
func TestMissing(t *testing.T) {
	have := []string{"soundscape", "logbook"}
	require.Equal(t, `No pool "soundscap"; did you mean "soundscape"? List them with: lantern pools`,
		Missing("no-pool", "pool", "soundscap", have).Error())
	far := Missing("no-host", "host", "zzz", have)
	require.Equal(t, 404, far.Status)
	require.NotContains(t, far.Error(), "did you mean")
}

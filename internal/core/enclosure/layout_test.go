package enclosure

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestPlaces(t *testing.T) {
	for _, c := range []struct {
		first Corner
		run   Run
		n     int
		want  Place
	}{
		{TopLeft, AlongRows, 1, Place{0, 0}}, {TopLeft, AlongRows, 5, Place{1, 0}}, {TopLeft, DownColumns, 7, Place{0, 1}},
		{BottomLeft, AlongRows, 1, Place{5, 0}}, {BottomRight, DownColumns, 1, Place{5, 3}},
		{TopRight, AlongRows, 2, Place{0, 2}}, {TopLeft, DownColumns, 24, Place{5, 3}},
	} {
		got, ok := Section{Rows: 6, Columns: 4, First: c.first, Run: c.run}.Place(c.n)
		require.True(t, ok)
		require.Equal(t, c.want, got, "%+v", c)
	}
	for _, first := range []Corner{TopLeft, TopRight, BottomLeft, BottomRight} {
		for _, run := range []Run{AlongRows, DownColumns} {
			s := Section{Rows: 3, Columns: 5, First: first, Run: run}
			seen := map[Place]bool{}
			for n := 1; n <= s.Bays(); n++ {
				p, ok := s.Place(n)
				require.True(t, ok && !seen[p] && p.Row >= 0 && p.Row < 3 && p.Column >= 0 && p.Column < 5)
				seen[p] = true
			}
			_, ok := s.Place(16)
			require.False(t, ok)
		}
	}
}

func TestAddress(t *testing.T) {
	a, err := ParseAddress("skerry/front/7")
	require.NoError(t, err)
	require.Equal(t, "skerry/front/7", a.String())
	for _, bad := range []string{"", "skerry", "skerry/front", "skerry/front/0", "skerry/front/x", "/front/1", "a/b/c/1"} {
		_, err := ParseAddress(bad)
		require.ErrorContains(t, err, "host/section/number", bad)
	}
}

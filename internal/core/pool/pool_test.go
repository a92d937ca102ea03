package pool

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestStateOfEarlierVersions: a place that was set aside is read from records and reports of earlier versions as well.
func TestStateOfEarlierVersions(t *testing.T) {
	var m Member
	require.NoError(t, json.Unmarshal([]byte(`{"state":"out"}`), &m))
	require.Equal(t, Out, m.State)
	require.Equal(t, Out, ParseState("out"))
	require.Equal(t, Out, ParseState(string(Out)))
	b, err := json.Marshal(m)
	require.NoError(t, err)
	require.Contains(t, string(b), `"state":"set-aside"`)
	require.NoError(t, json.Unmarshal([]byte(`{"state":"dancing"}`), &m))
	require.Equal(t, MemberState("dancing"), m.State, "what is not known stays as it was told")
}

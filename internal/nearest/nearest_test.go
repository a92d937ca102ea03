package nearest

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAmong(t *testing.T) {
	names := []string{"soundscape", "specimens", "tidegauge", "logbook"}
	for typed, want := range map[string]string{
		"soundscap": "soundscape", "Soundscape": "soundscape", "sonudscape": "soundscape", "tide": "tidegauge",
		"logbok": "logbook", "zzz": "", "": "", "x": "",
		"book": "",
	} {
		require.Equal(t, want, Among(typed, names), typed)
	}
}

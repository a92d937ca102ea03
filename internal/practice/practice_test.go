package practice

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Whatever pieces a text is written in, every line of it is marked once, and nothing else is changed.
func TestEveryLineIsMarked(t *testing.T) {
	const text = "one\n\nthree of a table   \nwithout an end"
	for size := 1; size <= len(text); size++ {
		var out bytes.Buffer
		w := &Writer{W: &out}
		for at := 0; at < len(text); at += size {
			n, err := w.Write([]byte(text[at:min(at+size, len(text))]))
			require.NoError(t, err)
			require.Equal(t, min(size, len(text)-at), n)
		}
		require.Equal(t, Lines(text), out.String(), "in pieces of %d", size)
		require.Equal(t, text, strings.ReplaceAll(out.String(), Mark, ""))
	}

	var out bytes.Buffer
	on := false
	w := &Writer{W: &out, On: func() bool { return on }}
	fmt.Fprintln(w, "nobody has answered yet")
	on = true
	fmt.Fprintln(w, "a practice has")
	require.Equal(t, "nobody has answered yet\n"+Mark+"a practice has\n", out.String())
}

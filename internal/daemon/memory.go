package daemon

import (
	"os"
	"runtime/debug"
)

// collectAt is the growth of the memory in use, in percent, at which unused memory is collected. Most of the memory of
// a large fleet stays in use, and with Go's default of 100 the service would need about twice that. `make load` shows
// the memory and the processor time.
const collectAt = 70

// collectEarly sets collectAt, unless the environment sets another value.
func collectEarly() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(collectAt)
	}
}

package daemon

import (
	"context"
	"log/slog"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"

	"lantern/internal/clock"
)

// notify sends a state to the service manager (sd_notify(3)); without one it does nothing.
func notify(log *slog.Logger, state string) {
	if _, err := daemon.SdNotify(false, state); err != nil {
		log.Warn("the service manager could not be notified", "state", state, "error", err)
	}
}

// watched reports to the service manager that the process works, as long as alive returns true, twice in the time after
// which it would be restarted (WatchdogSec= of systemd.service(5)). If alive does not return, nothing is reported.
func watched(ctx context.Context, log *slog.Logger, alive func()) {
	within, err := daemon.SdWatchdogEnabled(false)
	if err != nil || within == 0 {
		return
	}
	go func() {
		for ctx.Err() == nil {
			alive()
			notify(log, daemon.SdNotifyWatchdog)
			_ = clock.Real{}.Sleep(ctx, max(within/2, time.Millisecond))
		}
	}()
}

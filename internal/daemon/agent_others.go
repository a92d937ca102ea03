//go:build !linux

package daemon

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"time"

	"lantern/internal/link"
)

// Agent has the settings of an agent on this machine. It reads interfaces of Linux only.
type Agent struct {
	Host, Server, Token, Data, Devices string
	Link                               link.Options
	Interval, ReadEach                 time.Duration
	Wake                               bool
	Log                                *slog.Logger
	Print                              io.Writer
	Programs                           []string
}

// Run returns an error: there is no agent for this system.
func (Agent) Run(context.Context) error {
	return errors.New("an agent runs on Linux only; the service, the client and the demo run here")
}

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

// Agent is what an agent on this machine needs. Only Linux has what it reads.
type Agent struct {
	Host, Server, Token, Data, Devices string
	Link                               link.Options
	Interval, ReadEach                 time.Duration
	Wake                               bool
	Log                                *slog.Logger
	Print                              io.Writer
	Programs                           []string
}

// Run says that there is nothing to run.
func (Agent) Run(context.Context) error {
	return errors.New("an agent runs on Linux only; the service, the client and the demo run here")
}

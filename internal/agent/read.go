package agent

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/wire"
)

// commandLimit is how long a drive may take for one command.
const commandLimit = 20 * time.Second

// identify asks a drive who it is. A drive without a transport is what the machine says of it.
func identify(ctx context.Context, f Found) (drive.Description, error) {
	if f.Transport == nil {
		return f.Known, nil
	}
	switch f.Protocol {
	case SCSI:
		return identifySCSI(ctx, f.Transport, f.Known)
	case NVMe:
		return identifyNVMe(ctx, f.Transport, f.Known)
	}
	page := make([]byte, drive.PageSize)
	if err := execute(ctx, f.Transport, drive.IdentifyDevice, page); err != nil {
		return drive.Description{}, err
	}
	return drive.DecodeIdentify(page)
}

func execute(ctx context.Context, t Transport, r drive.Registers, in []byte) error {
	ctx, cancel := context.WithTimeout(ctx, commandLimit)
	defer cancel()
	_, err := t.Execute(ctx, drive.EncodePassThrough(r, in != nil), in)
	return err
}

// read takes one reading. What could not be believed is kept in it with its bytes; what could is used all the same.
func read(ctx context.Context, f Found, last *ioStat, at time.Time) (api.Reading, string) {
	out := api.Reading{At: at, Metrics: map[string]float64{}}
	if s, err := parseStat(f.Stat); err == nil {
		s.latencies(*last, out.Metrics)
		*last = s
	}
	switch {
	case f.Transport == nil:
		return out, f.Blind
	case f.Protocol == SCSI:
		readSCSI(ctx, f.Transport, &out)
		return out, ""
	case f.Protocol == NVMe:
		readNVMe(ctx, f.Transport, &out)
		return out, ""
	}
	if asleep(ctx, f.Transport) {
		return out, "it is asleep, and was not woken to be asked"
	}
	page := make([]byte, drive.PageSize)
	ask := func(r drive.Registers, decode func([]byte) error) {
		if err := execute(ctx, f.Transport, r, page); err != nil {
			out.Unreadable = append(out.Unreadable, api.BadPage{Kind: "ata-command", Why: err.Error(), Bytes: []byte{}})
			return
		}
		var bad *drive.Unreadable
		if err := decode(page); errors.As(err, &bad) {
			out.Unreadable = append(out.Unreadable, api.BadPage{Kind: string(bad.Kind), Why: bad.Why, Bytes: bad.Bytes})
		}
	}
	var attributes []drive.Attribute
	ask(drive.SmartReadData, func(p []byte) error {
		s, err := drive.DecodeSmartData(p)
		attributes = s.Attributes
		return err
	})
	ask(drive.SmartReadThresholds, func(p []byte) error {
		t, err := drive.DecodeSmartThresholds(p)
		for i := range attributes {
			attributes[i].Threshold = t[attributes[i].ID]
		}
		return err
	})
	ask(drive.SmartReadSelfTest, func(p []byte) error {
		tests, err := drive.DecodeSelfTestLog(p)
		out.Tests = wire.SelfTests(tests)
		return err
	})
	sense, err := f.Transport.Execute(ctx, drive.EncodePassThrough(drive.SmartReturnStatus, false), nil)
	if err == nil {
		var r drive.Registers
		if r, err = drive.DecodeSense(sense); err == nil {
			out.Failing, err = drive.DecodeReturnStatus(r)
		}
	}
	if err != nil {
		out.Unreadable = append(out.Unreadable, api.BadPage{Kind: "ata-return-status", Why: err.Error(), Bytes: sense})
	}
	out.Attributes = wire.Attributes(attributes)
	for n, v := range drive.Metrics(attributes) {
		out.Metrics[string(n)] = v
	}
	return out, ""
}

// asleep says whether an ATA drive tells that it is in standby; one that does not tell is asked on.
func asleep(ctx context.Context, t Transport) bool {
	ctx, cancel := context.WithTimeout(ctx, commandLimit)
	defer cancel()
	sense, err := t.Execute(ctx, drive.EncodePassThrough(drive.CheckPowerMode, false), nil)
	if err != nil {
		return false
	}
	r, err := drive.DecodeSense(sense)
	return err == nil && r.Command&1 == 0 && drive.Asleep(r)
}

// ioStat is what /sys/block/*/stat counts of reads and writes (Documentation/block/stat.rst): fields 1, 4, 5 and 8.
type ioStat struct {
	reads, readMS, writes, writeMS uint64
}

func parseStat(line string) (s ioStat, err error) {
	f := strings.Fields(line)
	if len(f) < 11 {
		return s, fmt.Errorf("%d fields of I/O statistics, at least 11 are due", len(f))
	}
	for _, at := range []struct {
		field int
		to    *uint64
	}{{0, &s.reads}, {3, &s.readMS}, {4, &s.writes}, {7, &s.writeMS}} {
		if *at.to, err = strconv.ParseUint(f[at.field], 10, 64); err != nil {
			return s, fmt.Errorf("I/O statistics: %w", err)
		}
	}
	return s, nil
}

// latencies since an earlier moment; nothing is said of a direction in which nothing, or too little to judge by, moved.
func (s ioStat) latencies(before ioStat, out map[string]float64) {
	const enough = 10 // operations
	if n := s.reads - before.reads; before.reads > 0 && s.reads > before.reads && n >= enough && s.readMS >= before.readMS {
		out["read_latency_seconds"] = mean(s.readMS-before.readMS, n)
	}
	if n := s.writes - before.writes; before.writes > 0 && s.writes > before.writes && n >= enough && s.writeMS >= before.writeMS {
		out["write_latency_seconds"] = mean(s.writeMS-before.writeMS, n)
	}
}

// mean of milliseconds over operations, in seconds, to the microsecond: the kernel's counts bear no more.
func mean(ms, n uint64) float64 { return math.Round(float64(ms)*1000/float64(n)) / 1e6 }

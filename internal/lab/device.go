package lab

import (
	"context"
	"fmt"
	"time"

	"lantern/internal/core/drive"
)

// device is a drive on the bus: a transport that answers command blocks.
type device struct {
	fleet *Fleet
	drive *Drive
	host  *Host
}

// Execute executes one ATA command in a 16-byte pass-through.
func (v device) Execute(_ context.Context, cdb, in []byte) ([]byte, error) {
	v.fleet.mu.Lock()
	defer v.fleet.mu.Unlock()
	t := v.host.time()
	if s, ok := v.drive.at(t); !ok || s.Host != v.host.Name {
		return nil, errGone
	}
	r, _, err := drive.DecodePassThrough(cdb)
	if err != nil {
		return nil, err
	}
	page, answer, err := v.answer(r, in, t)
	if page == nil {
		return answer, err
	}
	if copy(in, page) < len(page) {
		return nil, fmt.Errorf("%d bytes of room for %d", len(in), len(page))
	}
	return drive.EncodeSense(drive.Registers{Command: 0x50}), nil
}

// answer is a drive's answer: a page of data, or the sense data of a command without data.
func (v device) answer(r drive.Registers, in []byte, t time.Time) (page, sense []byte, err error) {
	none := func(sense []byte, err error) ([]byte, []byte, error) { return nil, sense, err }
	switch r {
	case drive.ReadLog(v.drive.Desc.GeneralLogs, drive.LogDirectory, 0):
		page = v.directory()
	case drive.ReadLog(true, drive.LogStatistics, 0),
		drive.ReadLog(true, drive.LogStatistics, 5),
		drive.ReadLog(true, drive.LogStatistics, 7):
		if page = v.drive.statistics(int(r.LBA>>8), t); !v.drive.Desc.GeneralLogs {
			return none(aborted(r))
		}
	case drive.ReadLog(false, drive.LogErrors, 0), drive.ReadLog(true, drive.LogExtendedErrors, 0):
		page = make([]byte, drive.PageSize) // version 1, no entry; the checksum makes up for the version
		page[0], page[drive.PageSize-1] = 1, 0xFF
	case drive.IdentifyDevice:
		page = drive.EncodeIdentify(v.drive.Desc)
	case drive.SmartReadData:
		page = v.smartData(t)
	case drive.SmartReadThresholds:
		page = drive.EncodeSmartThresholds(v.drive.attributes(t))
	case drive.SmartReadSelfTest:
		page = drive.EncodeSelfTestLog(v.drive.tests(t))
	case drive.SmartReturnStatus:
		return none(drive.EncodeSense(drive.EncodeReturnStatus(v.drive.ails(FaultFailing, t))), nil)
	case drive.SmartWriteSelective:
		first, last, err := drive.DecodeSelective(in)
		if err != nil || first > last || last >= uint64(v.drive.Desc.Capacity/v.drive.Desc.LogicalSector) {
			return none(aborted(r))
		}
		v.drive.Span = [2]uint64{first, last}
		return none(drive.EncodeSense(drive.Registers{Command: 0x50}), nil)
	case drive.CheckPowerMode:
		return none(drive.EncodeSense(drive.Registers{Command: 0x50, Count: 0xFF}), nil) // active or idle
	default:
		if r.Command == drive.StopSelfTest.Command && r.Features == drive.StopSelfTest.Features &&
			v.drive.selfTest(byte(r.LBA), t) {
			return none(drive.EncodeSense(drive.Registers{Command: 0x50}), nil)
		}
		return none(aborted(r))
	}
	return page, nil, nil
}

// directory is the log directory: version 1, and the number of pages of each log.
func (v device) directory() []byte {
	page := make([]byte, drive.PageSize)
	page[0] = 1
	if v.drive.Desc.GeneralLogs {
		page[2*int(drive.LogStatistics)], page[2*int(drive.LogExtendedErrors)] = 8, 1
	}
	return page
}

func (v device) smartData(t time.Time) []byte {
	state := v.drive.testMinutes()
	state.Revision, state.Attributes, state.ErrorLog = 16, v.drive.attributes(t), true
	if left, running := v.drive.running(t); running {
		state.SelfTestStatus, state.SelfTestRemaining = 15, left
	}
	page := drive.EncodeSmartData(state)
	if v.drive.ails(FaultDamaged, t) {
		page[drive.PageSize-1] ^= 0x5A
	}
	return page
}

func aborted(r drive.Registers) ([]byte, error) {
	return drive.EncodeSense(
			drive.Registers{Command: 0x51, Error: 0x04},
		), fmt.Errorf(
			"command %02Xh aborted by the device",
			r.Command,
		)
}

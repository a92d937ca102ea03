package agent

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/drive/page"
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
		return identifyNVMe(ctx, f.Transport, f.Known, max(1, f.Namespace))
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

// memory is what one reading of a drive leaves for the next.
type memory struct {
	times int // readings taken
	io    ioStat
	// failures are those that its host counted while nobody read it; failed is the host's count after a reading.
	failures, failed int64
	counted          bool
	// asked says that pages which do not change were read: for ATA which logs there are, for NVMe what the controller
	// is.
	asked    bool
	logs     map[byte]int       // pages of each ATA log
	pages    []int              // of the device statistics
	tests    map[string]float64 // its kinds of self-test, with its own estimates in minutes
	testing  bool               // a self-test ran when it was read
	constant page.Page
}

// feed puts a value into a reading, with what it was read from. What is read first feeds a metric: one source for each
// metric of a drive, always the same.
func feed(out *api.Reading, n drive.MetricName, v float64, source string) {
	if _, fed := out.Metrics[string(n)]; !fed {
		out.Metrics[string(n)], out.Sources[string(n)] = v, source
	}
}

func feedAll(out *api.Reading, p page.Page) {
	for n, v := range p.Metrics {
		feed(out, n, v, p.Sources[n])
	}
}

const sleeps = "it is asleep, and was not woken to be asked"

// read takes one reading. What could not be believed is kept in it with its bytes; what could is used all the same. why
// is not empty when the drive told nothing.
func read(ctx context.Context, f Found, m *memory, at time.Time, wake bool) (out api.Reading, why string) {
	out = api.Reading{At: at, Metrics: map[string]float64{}, Sources: map[string]string{}}
	if s, err := parseStat(f.Stat); err == nil {
		s.latencies(m.io, func(n drive.MetricName, v float64) { feed(&out, n, v, "host I/O statistics") })
		m.io = s
	}
	if f.Transport == nil {
		return out, f.Blind
	}
	// What failed since the reading before is the drive's; what fails while it is asked can be the asking.
	if now, ok := f.failures(); ok {
		if m.counted && now > m.failed {
			m.failures += now - m.failed
		}
		feed(&out, "host_io_errors", float64(m.failures), "host kernel")
		defer func() { m.failed, m.counted = f.failures() }()
	}
	defer func() { m.testing = out.Testing.RemainingPercent > 0 }()
	switch f.Protocol {
	case SCSI:
		why = readSCSI(ctx, f.Transport, m, wake, &out)
	case NVMe:
		readNVMe(ctx, f.Transport, m, &out)
	default:
		why = readATA(ctx, f, m, wake, &out)
	}
	return out, why
}

// statistics are the pages of the device statistics log that feed metrics (ACS-4 9.5).
var statistics = []int{1, 3, 4, 5, 6, 7}

// readATA reads attributes and their thresholds, the drive's own word, and of its logs self-tests, errors, statistics
// and temperature.
func readATA(ctx context.Context, f Found, m *memory, wake bool, out *api.Reading) (why string) {
	switch {
	case !f.Known.SMARTSupported:
		return "it reports that it has no SMART"
	case !f.Known.SMARTEnabled:
		return "its SMART is switched off"
	case !wake && asleep(ctx, f.Transport):
		return sleeps
	}
	r := ataReading{ctx: ctx, f: f, out: out, in: make([]byte, drive.PageSize)}
	r.attributes()
	r.returnStatus()
	r.listLogs(m)
	r.selfTests(m)
	r.logs(m)
	return ""
}

// ataReading is one reading of an ATA drive.
type ataReading struct {
	ctx   context.Context
	f     Found
	out   *api.Reading
	in    []byte // a page, used again for each command
	smart drive.SmartData
}

func (r *ataReading) refused(err error) {
	r.out.Unreadable = append(r.out.Unreadable, api.BadPage{Kind: "ata-command", Why: err.Error(), Bytes: []byte{}})
}

// ask sends a command and has its answer decoded. What cannot be decoded is kept as it came.
func (r *ataReading) ask(command drive.Registers, decode func([]byte) error) {
	if err := execute(r.ctx, r.f.Transport, command, r.in); err != nil {
		r.refused(err)
		return
	}
	var bad *drive.Unreadable
	if err := decode(r.in); errors.As(err, &bad) {
		r.out.Unreadable = append(
			r.out.Unreadable,
			api.BadPage{Kind: string(bad.Kind), Why: bad.Why, Bytes: bad.Bytes},
		)
	}
}

// log reads a page of a log, which feeds what no attribute fed. A page that is wrong feeds nothing.
func (r *ataReading) log(kind string, address byte, nth int) page.Page {
	command := drive.ReadLog(r.f.Known.GeneralLogs, address, uint16(nth))
	if err := execute(r.ctx, r.f.Transport, command, r.in); err != nil {
		r.refused(err)
		return page.Page{}
	}
	p, err := page.Decode(kind, r.in)
	if err == nil && len(p.Wrong) > 0 {
		r.out.Unreadable = append(
			r.out.Unreadable,
			api.BadPage{Kind: kind, Why: strings.Join(p.Wrong, "; "), Bytes: slices.Clone(r.in)},
		)
		p = page.Page{}
	}
	feedAll(r.out, p)
	return p
}

// attributes reads the attributes and their thresholds.
func (r *ataReading) attributes() {
	var attributes []drive.Attribute
	r.ask(drive.SmartReadData, func(p []byte) (err error) {
		r.smart, err = drive.DecodeSmartData(p)
		attributes = r.smart.Attributes
		return err
	})
	r.ask(drive.SmartReadThresholds, func(p []byte) error {
		t, err := drive.DecodeSmartThresholds(p)
		for i := range attributes {
			attributes[i].Threshold = t[attributes[i].ID]
		}
		return err
	})
	r.out.Attributes = wire.Attributes(attributes)
	for n, v := range drive.Metrics(attributes) {
		about, _ := drive.MetricByName(n)
		feed(r.out, n, v, drive.AttributeSource(about.Attribute))
	}
}

// returnStatus reads the drive's own word on whether it fails.
func (r *ataReading) returnStatus() {
	sense, err := r.f.Transport.Execute(r.ctx, drive.EncodePassThrough(drive.SmartReturnStatus, false), nil)
	if err == nil {
		var answer drive.Registers
		if answer, err = drive.DecodeSense(sense); err == nil {
			r.out.Failing, err = drive.DecodeReturnStatus(answer)
		}
	}
	if err != nil {
		r.out.Unreadable = append(
			r.out.Unreadable,
			api.BadPage{Kind: "ata-return-status", Why: err.Error(), Bytes: sense},
		)
	}
}

// listLogs asks once which logs the drive has.
func (r *ataReading) listLogs(m *memory) {
	if m.asked {
		return
	}
	m.logs, m.asked = directory(r.ctx, r.f, r.in), true
	if m.logs[drive.LogStatistics] == 0 || !r.f.Known.GeneralLogs {
		return
	}
	list := field[[]int](r.log("ata-device-statistics", drive.LogStatistics, 0), "supported pages")
	for _, n := range statistics {
		if slices.Contains(list, n) && n < m.logs[drive.LogStatistics] {
			m.pages = append(m.pages, n)
		}
	}
}

// selfTests reads what the drive reports about self-tests: how long they take, the one that runs, and the log.
func (r *ataReading) selfTests(m *memory) {
	r.out.SelfTests = r.f.Known.SelfTests || r.smart.SelfTests
	r.smart.SelfTests = r.out.SelfTests
	r.out.TestMinutes = map[string]float64{}
	for kind, minutes := range r.smart.SelfTestMinutes() {
		r.out.TestMinutes[string(kind)] = float64(minutes)
	}
	const running = 15 // ACS-3 table 134
	if r.smart.SelfTestStatus == running {
		r.out.Testing = api.Testing{RemainingPercent: max(1, r.smart.SelfTestRemaining)}
	}
	// The extended log has addresses of 48 bits, but only its first page is read: 19 tests.
	if r.f.Known.GeneralLogs && m.logs[drive.LogExtendedSelfTest] == 1 {
		r.out.Tests = wire.SelfTests(r.log("ata-extended-selftest-log", drive.LogExtendedSelfTest, 0).Tests)
	} else if r.out.SelfTests {
		r.ask(drive.SmartReadSelfTest, func(p []byte) error {
			tests, err := drive.DecodeSelfTestLog(p)
			r.out.Tests = wire.SelfTests(tests)
			return err
		})
	}
}

// logs reads the logs of errors, statistics and temperature.
func (r *ataReading) logs(m *memory) {
	if !r.f.Known.GeneralLogs && (m.logs[drive.LogErrors] > 0 || r.smart.ErrorLog) {
		r.log("ata-error-log", drive.LogErrors, 0)
	}
	if r.f.Known.GeneralLogs && m.logs[drive.LogExtendedErrors] > 0 {
		r.log("ata-extended-error-log", drive.LogExtendedErrors, 0)
	}
	for _, n := range m.pages {
		r.log("ata-device-statistics", drive.LogStatistics, n)
	}
	if _, told := r.out.Metrics["temperature_celsius"]; !told && m.logs[drive.LogSCTStatus] > 0 {
		r.log("ata-sct-status", drive.LogSCTStatus, 0)
	}
}

// directory says how many pages each log of a drive has (ACS-4 9.2: a word for each address). A drive without one has
// none.
func directory(ctx context.Context, f Found, in []byte) map[byte]int {
	out := map[byte]int{}
	if execute(ctx, f.Transport, drive.ReadLog(f.Known.GeneralLogs, drive.LogDirectory, 0), in) != nil {
		return out
	}
	for address := 1; address < 256; address++ {
		if n := int(binary.LittleEndian.Uint16(in[2*address:])); n > 0 {
			out[byte(address)] = n
		}
	}
	return out
}

// asleep reports whether an ATA drive tells that it is in standby; one that does not tell is asked on.
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

// sleeping reports whether a drive tells that it is in standby, in its own language, without being woken by the
// question.
func sleeping(ctx context.Context, f Found) bool {
	switch {
	case f.Transport == nil || f.Protocol == NVMe:
		return false
	case f.Protocol == SCSI:
		_, sense, err := ask(ctx, f.Transport, drive.RequestSense(32), 32, "scsi-sense")
		return err == nil && drive.StandbySense(sense)
	}
	return asleep(ctx, f.Transport)
}

// Sleeping reports whether a drive tells that it is in standby; the question does not wake it.
func Sleeping(f Found) bool {
	ctx, cancel := context.WithTimeout(context.Background(), commandLimit)
	defer cancel()
	return sleeping(ctx, f)
}

// ioStat is what /sys/block/*/stat counts of reads and writes (Documentation/block/stat.rst): fields 1, 4, 5 and 8, and
// 10, the time in which anything at all was under way.
type ioStat struct {
	reads, readMS, writes, writeMS, busyMS uint64
}

func parseStat(line string) (s ioStat, err error) {
	f := strings.Fields(line)
	if len(f) < 11 {
		return s, fmt.Errorf("%d fields of I/O statistics, at least 11 are due", len(f))
	}
	for _, at := range []struct {
		field int
		to    *uint64
	}{{0, &s.reads}, {3, &s.readMS}, {4, &s.writes}, {7, &s.writeMS}, {9, &s.busyMS}} {
		if *at.to, err = strconv.ParseUint(f[at.field], 10, 64); err != nil {
			return s, fmt.Errorf("I/O statistics: %w", err)
		}
	}
	return s, nil
}

// latencies since an earlier moment; nothing is said of a direction in which nothing, or too little to judge by, moved.
func (s ioStat) latencies(before ioStat, tell func(drive.MetricName, float64)) {
	const enough = 10 // operations
	if n := s.reads - before.reads; before.reads > 0 && s.reads > before.reads && n >= enough &&
		s.readMS >= before.readMS {
		tell("read_latency_seconds", mean(s.readMS-before.readMS, n))
	}
	if n := s.writes - before.writes; before.writes > 0 && s.writes > before.writes && n >= enough &&
		s.writeMS >= before.writeMS {
		tell("write_latency_seconds", mean(s.writeMS-before.writeMS, n))
	}
}

// mean of milliseconds over operations, in seconds, to the microsecond: the kernel's counts bear no more.
func mean(ms, n uint64) float64 { return math.Round(float64(ms)*1000/float64(n)) / 1e6 }

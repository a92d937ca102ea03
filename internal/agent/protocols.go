package agent

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/drive/page"
	"lantern/internal/wire"
)

// Protocol is the language a drive speaks; the zero value is ATA.
type Protocol string

// The protocols. ATA travels in SCSI pass-through blocks.
const (
	ATA  Protocol = ""
	SCSI Protocol = "scsi"
	NVMe Protocol = "nvme"
)

// Lengths that are asked for: room for every log page that is read.
const (
	scsiLength = 4096
	nvmeLength = 4096
)

// ask sends one command and takes what came back apart.
func ask(ctx context.Context, t Transport, cmd []byte, length int, kind string) (page.Page, []byte, error) {
	ctx, cancel := context.WithTimeout(ctx, commandLimit)
	defer cancel()
	in := make([]byte, length)
	if _, err := t.Execute(ctx, cmd, in); err != nil {
		return page.Page{}, nil, err
	}
	p, err := page.Decode(kind, in)
	if err == nil && len(p.Wrong) > 0 && len(p.Fields) == 0 {
		return p, in, &drive.Unreadable{Kind: drive.PageKind(kind), Why: strings.Join(p.Wrong, "; "), Bytes: in}
	}
	return p, in, err
}

func field[T any](p page.Page, name string) (v T) {
	for _, f := range p.Fields {
		if x, ok := f.Value.(T); ok && f.Name == name {
			return x
		}
	}
	return v
}

// identifySCSI asks a SCSI drive who it is. known is what the kernel keeps of it, for what the drive does not tell.
func identifySCSI(ctx context.Context, t Transport, known drive.Description) (drive.Description, error) {
	d := known
	p, _, err := ask(ctx, t, drive.Inquiry(false, 0, 96), 96, "scsi-inquiry")
	if err != nil {
		return d, err
	}
	d.Vendor, d.Model, d.Firmware = field[string](
		p,
		"vendor identification",
	), field[string](
		p,
		"product identification",
	), field[string](
		p,
		"product revision level",
	)
	if p, _, err := ask(ctx, t, drive.Inquiry(true, 0x80, 252), 252, "scsi-vpd"); err == nil {
		d.Serial = field[string](p, "unit serial number")
	}
	if p, _, err := ask(ctx, t, drive.Inquiry(true, 0x83, scsiLength), scsiLength, "scsi-vpd"); err == nil {
		for _, f := range p.Fields {
			v, ok := f.Value.(map[string]any)
			if ok && v["type"] == "NAA" && v["association"] == "logical unit" {
				d.WWN = fmt.Sprint(v["value"])
			}
		}
	}
	if p, _, err := ask(ctx, t, drive.ReadCapacity16(32), 32, "scsi-capacity"); err == nil {
		d.Capacity, d.LogicalSector = drive.Bytes(
			field[uint64](p, "capacity"),
		), drive.Bytes(
			field[uint64](p, "logical block length"),
		)
		d.PhysicalSector = drive.Bytes(field[uint64](p, "physical block length"))
	}
	if p, _, err := ask(ctx, t, drive.Inquiry(true, 0xB1, 64), 64, "scsi-vpd"); err == nil {
		if m := field[string](p, "medium"); m != "" {
			d.Medium = drive.Medium(m)
		}
		d.RotationRPM, d.FormFactor = int(
			field[uint64](p, "medium rotation rate"),
		), field[string](
			p,
			"nominal form factor",
		)
	}
	return d, nil
}

// identifyNVMe asks a controller and one of its namespaces who they are.
func identifyNVMe(
	ctx context.Context,
	t Transport,
	known drive.Description,
	namespace int,
) (drive.Description, error) {
	d := known
	p, _, err := ask(ctx, t, drive.NVMeIdentify(1, 0), nvmeLength, "nvme-controller")
	if err != nil {
		return d, err
	}
	d.Model, d.Serial, d.Firmware = field[string](
		p,
		"model number",
	), field[string](
		p,
		"serial number",
	), field[string](
		p,
		"firmware revision",
	)
	d.Medium = drive.MediumSolidState
	p, _, err = ask(ctx, t, drive.NVMeIdentify(0, uint32(namespace)), nvmeLength, "nvme-namespace")
	if err != nil {
		d.Identity = d.Namespace(namespace)
		return d, nil // the controller answered; what the kernel knows of the namespace stands
	}
	for _, name := range []string{"NGUID", "EUI-64"} {
		if id := field[string](p, name); id != "" {
			d.WWN = id
			break
		}
	}
	d.Identity = d.Namespace(namespace)
	return d, nil
}

// logPages are the SCSI log pages of a reading.
var logPages = []byte{0x02, 0x03, 0x05, 0x06, 0x0D, 0x0E, 0x10, 0x11, 0x15, 0x2F}

// readSCSI reads those log pages that the drive says it has, and the number of grown defects. REQUEST SENSE comes
// first: it reports standby without ending it (SBC-4 4.20).
func readSCSI(ctx context.Context, t Transport, m *memory, wake bool, out *api.Reading) (why string) {
	if p, sense, err := ask(ctx, t, drive.RequestSense(32), 32, "scsi-sense"); err == nil {
		if !wake && drive.StandbySense(sense) {
			return sleeps
		}
		// SPC-5 5.15.4: while a self-test runs in the background, so says the additional sense, with how far it is.
		if field[string](p, "additional sense") == "04/09" {
			out.Testing = api.Testing{RemainingPercent: max(1, 100-int(field[float64](p, "progress")))}
		}
	}
	p, _, err := ask(ctx, t, drive.LogSense(0, 256), 256, "scsi-log")
	if err != nil {
		return "it gives no log pages, so nothing of its health; a bridge or an adapter before it can " +
			"hide them (" + err.Error() + ")"
	}
	has := map[string]bool{}
	for _, code := range field[[]string](p, "supported pages") {
		has[code] = true
	}
	if out.SelfTests = has["10h"]; out.SelfTests {
		if !m.asked {
			m.asked, m.tests = true, map[string]float64{"short": 0, "extended": 0}
			if p, _, err := ask(
				ctx,
				t,
				drive.Inquiry(true, 0x86, 64),
				64,
				"scsi-vpd",
			); err == nil &&
				len(p.Wrong) == 0 {
				m.tests["extended"] = float64(field[uint64](p, "extended self-test completion time"))
			}
		}
		out.TestMinutes = m.tests
	}
	for _, code := range logPages {
		if has[fmt.Sprintf("%02Xh", code)] {
			p, raw, err := ask(ctx, t, drive.LogSense(code, scsiLength), scsiLength, "scsi-log")
			if take(out, p, raw, err) {
				out.Failing = out.Failing || field[bool](p, "failure predicted")
			}
		}
	}
	if p, _, err := ask(
		ctx,
		t,
		drive.ReadDefects(8),
		8,
		"scsi-defects",
	); err == nil &&
		len(p.Wrong) == 0 { // a drive may keep its list to itself
		take(out, p, nil, nil)
	}
	return ""
}

// nvmeTests is the length of the device self-test log.
const nvmeTests = 564

// readNVMe reads the health log, and that of self-tests where there is one.
func readNVMe(ctx context.Context, t Transport, m *memory, out *api.Reading) {
	if !m.asked {
		if p, _, err := ask(
			ctx,
			t,
			drive.NVMeIdentify(1, 0),
			nvmeLength,
			"nvme-controller",
		); err == nil &&
			len(p.Wrong) == 0 {
			m.asked, m.constant = true, p
			if field[bool](
				p,
				"device self-test supported",
			) { // the short one takes two minutes at most (NVMe 2.0 8.6.1)
				m.tests = map[string]float64{
					"short":    2,
					"extended": float64(field[uint64](p, "extended device self-test time")),
				}
			}
		}
	}
	feedAll(out, m.constant)
	p, raw, err := ask(ctx, t, drive.NVMeLog(0x02, 512), 512, "nvme-health")
	if take(out, p, raw, err) {
		out.Warnings = field[[]string](p, "critical warning")
	}
	// Any bit but the temperature's is the drive's own word that it is failing (NVMe 2.0 figure 207).
	for _, w := range out.Warnings {
		out.Failing = out.Failing || w != "temperature"
	}
	if out.TestMinutes, out.SelfTests = m.tests, m.tests != nil; out.SelfTests {
		p, raw, err := ask(ctx, t, drive.NVMeLog(0x06, nvmeTests), nvmeTests, "nvme-selftest-log")
		if what := field[string](p, "current operation"); take(out, p, raw, err) && what != "" && what != "none" {
			out.Testing = api.Testing{Kind: what, RemainingPercent: max(1, 100-int(field[uint64](p, "completion")))}
		}
	}
}

// take puts what a page feeds into a reading; a page that cannot be believed is kept with its bytes, and good is false.
func take(out *api.Reading, p page.Page, raw []byte, err error) (good bool) {
	var bad *drive.Unreadable
	switch {
	case errors.As(err, &bad):
		out.Unreadable = append(out.Unreadable, api.BadPage{Kind: string(bad.Kind), Why: bad.Why, Bytes: bad.Bytes})
	case err != nil:
		out.Unreadable = append(out.Unreadable, api.BadPage{Kind: "command", Why: err.Error(), Bytes: []byte{}})
	case len(p.Wrong) > 0:
		out.Unreadable = append(out.Unreadable, api.BadPage{Kind: p.Kind, Why: strings.Join(p.Wrong, "; "), Bytes: raw})
	default:
		feedAll(out, p)
		if len(p.Tests) > 0 {
			out.Tests = wire.SelfTests(p.Tests)
		}
		return true
	}
	return false
}

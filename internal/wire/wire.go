// Package wire converts values of the core to those of the API and back. It is the only package that knows both.
package wire

import (
	"cmp"
	"fmt"
	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"strconv"
	"time"
)

// Identity to the API.
func Identity(i drive.Identity) api.Identity {
	return api.Identity{Wwn: i.WWN, Vendor: i.Vendor, Model: i.Model, Serial: i.Serial}
}

// ToIdentity from the API.
func ToIdentity(i api.Identity) drive.Identity {
	return drive.Identity{WWN: i.Wwn, Vendor: i.Vendor, Model: i.Model, Serial: i.Serial}
}

// ToDescription from a report.
func ToDescription(d api.DriveReport) drive.Description {
	return drive.Description{
		Identity:       ToIdentity(d.Identity),
		Firmware:       d.Firmware,
		Capacity:       drive.Bytes(d.CapacityBytes),
		LogicalSector:  drive.Bytes(d.LogicalSectorBytes),
		PhysicalSector: drive.Bytes(d.PhysicalSectorBytes),
		Medium: drive.Medium(
			d.Medium,
		),
		RotationRPM: d.RotationRpm,
		FormFactor:  d.FormFactor,
		Zoned:       drive.Zoning(d.Zoned),
	}
}

// Description to a report.
func Description(d drive.Description) api.DriveReport {
	return api.DriveReport{
		Identity: Identity(d.Identity), Firmware: d.Firmware, CapacityBytes: int64(d.Capacity),
		LogicalSectorBytes: int(d.LogicalSector), PhysicalSectorBytes: int(d.PhysicalSector),
		Medium: string(d.Medium), RotationRpm: d.RotationRPM, FormFactor: d.FormFactor, Zoned: string(d.Zoned),
	}
}

// Attributes to the API, each with the metric it feeds.
func Attributes(in []drive.Attribute) []api.Attribute {
	out := make([]api.Attribute, len(in))
	for i, a := range in {
		name, _, _ := drive.MetricOf(a)
		out[i] = api.Attribute{Id: int(a.ID), Flags: int(a.Flags), Value: int(a.Value), Worst: int(a.Worst),
			Threshold: int(a.Threshold), Raw: int64(a.Raw), Metric: string(name)}
	}
	return out
}

// SelfTests to the API.
func SelfTests(in []drive.SelfTest) []api.SelfTest {
	out := make([]api.SelfTest, len(in))
	for i, t := range in {
		out[i] = api.SelfTest{Kind: string(t.Kind), Result: string(t.Result), Hours: t.Hours, Lba: t.LBA,
			Number: int(t.Number), Status: int(t.Status)}
	}
	return out
}

// ToSelfTests from the API.
func ToSelfTests(in []api.SelfTest) []drive.SelfTest {
	out := make([]drive.SelfTest, len(in))
	for i, t := range in {
		out[i] = drive.SelfTest{
			Kind:   drive.SelfTestKind(t.Kind),
			Result: drive.SelfTestResult(t.Result),
			Hours:  t.Hours,
			LBA:    t.Lba,
			Number: byte(t.Number),
			Status: byte(t.Status),
		}
	}
	return out
}

// Metrics to the API.
func Metrics(in map[drive.MetricName]float64) api.Metrics {
	out := make(api.Metrics, len(in))
	for n, v := range in {
		out[string(n)] = v
	}
	return out
}

// Enclosure to a report; lit are the numbers of the bays whose light is on, by section.
func Enclosure(l enclosure.Layout, lit map[string][]int) api.EnclosureReport {
	out := api.EnclosureReport{Name: l.Name, Sections: []api.SectionReport{}}
	for _, s := range l.Sections {
		on := lit[s.Name]
		if on == nil {
			on = []int{}
		}
		v := api.SectionReport{Name: s.Name, Rows: s.Rows, Columns: s.Columns,
			First: string(s.First), Run: string(s.Run), Upright: s.Upright, Lit: on}
		v.Gaps, v.Bays, v.Names = grid(s)
		out.Sections = append(out.Sections, v)
	}
	return out
}

// grid gives the exceptions of a section from its rule.
func grid(s enclosure.Section) (gaps [][]int, bays map[string][]int, names map[string]string) {
	for _, g := range s.Gaps {
		gaps = append(gaps, []int{g[0], g[1]})
	}
	for n, at := range s.Named {
		if bays == nil {
			bays = map[string][]int{}
		}
		bays[strconv.Itoa(n)] = []int{at[0], at[1]}
	}
	for n, name := range s.Names {
		if names == nil {
			names = map[string]string{}
		}
		names[strconv.Itoa(n)] = name
	}
	return gaps, bays, names
}

// toGrid is the reverse; invalid numbers and places are left out, and a check of the section finds that they are
// missing.
func toGrid(s *enclosure.Section, gaps [][]int, bays map[string][]int, names map[string]string) error {
	for _, g := range gaps {
		if len(g) != 2 {
			return fmt.Errorf("section %s: a gap is a row and a column, not %v", s.Name, g)
		}
		s.Gaps = append(s.Gaps, [2]int{g[0], g[1]})
	}
	for text, at := range bays {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || len(at) != 2 {
			return fmt.Errorf(
				"section %s: bay %q is at %v; a bay is a number from 1 on, with its row and column",
				s.Name,
				text,
				at,
			)
		}
		if s.Named == nil {
			s.Named = map[int][2]int{}
		}
		s.Named[n] = [2]int{at[0], at[1]}
	}
	for text, name := range names {
		n, err := strconv.Atoi(text)
		if err != nil {
			return fmt.Errorf("section %s: %q is not a bay number", s.Name, text)
		}
		if s.Names == nil {
			s.Names = map[int]string{}
		}
		s.Names[n] = name
	}
	return nil
}

// ToLayout from the API, checked.
func ToLayout(l api.Layout) (enclosure.Layout, error) {
	out := enclosure.Layout{Name: l.Name}
	for _, s := range l.Sections {
		sec := enclosure.Section{
			Name:    s.Name,
			Rows:    s.Rows,
			Columns: s.Columns,
			First:   enclosure.Corner(cmp.Or(s.First, string(enclosure.TopLeft))),
			Run:     enclosure.Run(cmp.Or(s.Run, string(enclosure.AlongRows))),
			Upright: s.Upright,
		}
		if err := toGrid(&sec, s.Gaps, s.Bays, s.Names); err != nil {
			return out, err
		}
		out.Sections = append(out.Sections, sec)
	}
	return out, out.Check()
}

// Layout to the API.
func Layout(l enclosure.Layout) api.Layout {
	out := api.Layout{Name: l.Name, Sections: []api.LayoutSection{}}
	for _, s := range l.Sections {
		v := api.LayoutSection{
			Name:    s.Name,
			Rows:    s.Rows,
			Columns: s.Columns,
			First:   string(s.First),
			Run:     string(s.Run),
			Upright: s.Upright,
		}
		v.Gaps, v.Bays, v.Names = grid(s)
		out.Sections = append(out.Sections, v)
	}
	return out
}

// ToSection from a report.
func ToSection(s api.SectionReport) enclosure.Section {
	out := enclosure.Section{Name: s.Name, Rows: s.Rows, Columns: s.Columns, First: enclosure.Corner(s.First),
		Run: enclosure.Run(s.Run), Upright: s.Upright}
	_ = toGrid(&out, s.Gaps, s.Bays, s.Names) // it was made by our own code in the agent
	return out
}

// Protection to the API.
func Protection(p pool.Protection) api.Protection {
	return api.Protection{
		Words:     p.Words,
		Tolerance: p.Tolerance,
		Data:      p.Data,
		StopsAt:   p.StopsAt,
		Domains:   p.Domains,
		None:      p.None,
	}
}

func toProtection(p api.Protection) pool.Protection {
	return pool.Protection{
		Words:     p.Words,
		Tolerance: p.Tolerance,
		Data:      p.Data,
		StopsAt:   p.StopsAt,
		Domains:   p.Domains,
		None:      p.None,
	}
}

func members(in []pool.Member) []api.MemberReport {
	out := make([]api.MemberReport, len(in))
	for i, m := range in {
		out[i] = api.MemberReport{
			Slot:      m.Slot,
			State:     string(m.State),
			Drive:     m.Drive,
			Domain:    m.Domain,
			Log:       m.Log,
			Parity:    m.Parity,
			BadBlocks: m.BadBlocks,
			Beside:    m.Beside,
			StandsFor: m.StandsFor,
			Device:    m.Device,
			Drives:    m.Drives,
			Under:     m.Under,
			Partition: m.Partition,
			Layers:    m.Layers,
			SizeBytes: int64(
				m.Size,
			),
			UsedBytes:  int64(m.Used),
			NeedsBytes: int64(m.Needs),
			Errors:     MemberErrors(m.Errors),
		}
	}
	return out
}

// MemberErrors to the API.
func MemberErrors(e pool.Errors) api.MemberErrors {
	return api.MemberErrors{Read: int64(e.Read), Write: int64(e.Write), Checksum: int64(e.Checksum)}
}

func toMembers(in []api.MemberReport) []pool.Member {
	out := make([]pool.Member, len(in))
	for i, m := range in {
		out[i] = pool.Member{
			Slot:      m.Slot,
			State:     pool.ParseState(m.State),
			Drive:     m.Drive,
			Domain:    m.Domain,
			Log:       m.Log,
			Parity:    m.Parity,
			BadBlocks: m.BadBlocks,
			Beside:    m.Beside,
			StandsFor: m.StandsFor,
			Device:    m.Device,
			Drives:    m.Drives,
			Under:     m.Under,
			Partition: m.Partition,
			Layers:    m.Layers,
			Size:      drive.Bytes(m.SizeBytes),
			Used:      drive.Bytes(m.UsedBytes),
			Needs:     drive.Bytes(m.NeedsBytes),
			Errors: pool.Errors{
				Read:     uint64(m.Errors.Read),
				Write:    uint64(m.Errors.Write),
				Checksum: uint64(m.Errors.Checksum),
			},
		}
	}
	return out
}

// Pool to a report, with its recoveries.
func Pool(p pool.Pool, rs []recovery.Report) api.PoolReport {
	out := api.PoolReport{
		Id:            p.ID,
		Name:          p.Name,
		Kind:          p.Kind,
		CapacityBytes: int64(p.Capacity),
		UsedBytes:     int64(p.Used),
		Limit:         p.Limit,
		Watched:       p.Watched,
		UsedUnknown:   p.UsedUnknown,
		Device:        p.Device,
		Groups:        []api.GroupReport{},
		Volumes:       []api.VolumeReport{},
		Spares:        members(p.Spares),
		Logs:          members(p.Logs),
	}
	for _, g := range p.Groups {
		out.Groups = append(
			out.Groups,
			api.GroupReport{
				Name:       g.Name,
				Protection: Protection(g.Protect),
				Spread:     g.Spread,
				Heals:      g.Heals,
				Members:    members(g.Members),
			},
		)
	}
	for _, v := range p.Volumes {
		out.Volumes = append(
			out.Volumes,
			api.VolumeReport{
				Name:       v.Name,
				Group:      v.Group,
				Protection: Protection(v.Protect),
				UsedBytes:  int64(v.Used),
				Extents:    Extents(v.Extents),
			},
		)
	}
	for _, r := range rs {
		out.Recoveries = append(out.Recoveries, Recovery(r))
	}
	return out
}

// Recovery to a report.
func Recovery(r recovery.Report) api.RecoveryReport {
	out := api.RecoveryReport{
		Id:        r.ID,
		Kind:      string(r.Kind),
		State:     string(r.State),
		StartedAt: r.StartedAt,
		EndedAt:   r.EndedAt,
		Slot:      r.Slot,
		Drive:     r.Drive,
		DoneBytes: int64(r.Done),
		TodoBytes: int64(r.Todo),
		Found: int64(
			r.Found,
		),
		Repaired:     int64(r.Repaired),
		Unrepairable: int64(r.Unrepairable),
		Phase:        r.Phase,
		Slowest:      r.Slowest,
		SlowestWhy:   r.SlowestWhy,
	}
	for _, f := range r.Flows {
		out.Flows = append(out.Flows, api.Flow{Slot: f.Slot, ReadBytes: int64(f.Read), WrittenBytes: int64(f.Written)})
	}
	return out
}

// ToRecovery from a report that was made at a time. For one that had ended by then, it gives the result.
func ToRecovery(r api.RecoveryReport, at time.Time) recovery.Report {
	if !r.EndedAt.IsZero() && r.EndedAt.Before(at) {
		at = r.EndedAt
	}
	out := recovery.Report{
		ID:        r.Id,
		Kind:      recovery.Kind(r.Kind),
		State:     recovery.State(r.State),
		StartedAt: r.StartedAt,
		EndedAt:   r.EndedAt,
		Slot:      r.Slot,
		Drive:     r.Drive,
		Found: uint64(
			r.Found,
		),
		Repaired:     uint64(r.Repaired),
		Unrepairable: uint64(r.Unrepairable),
		Phase:        r.Phase,
		Slowest:      r.Slowest,
		SlowestWhy:   r.SlowestWhy,
		Sample:       recovery.Sample{At: at, Done: drive.Bytes(r.DoneBytes), Todo: drive.Bytes(r.TodoBytes)},
	}
	for _, f := range r.Flows {
		out.Flows = append(
			out.Flows,
			recovery.Flow{Slot: f.Slot, Read: drive.Bytes(f.ReadBytes), Written: drive.Bytes(f.WrittenBytes)},
		)
	}
	return out
}

// ToPool from a report.
func ToPool(p api.PoolReport) pool.Pool {
	out := pool.Pool{
		ID:          p.Id,
		Name:        p.Name,
		Kind:        p.Kind,
		Capacity:    drive.Bytes(p.CapacityBytes),
		Used:        drive.Bytes(p.UsedBytes),
		Limit:       p.Limit,
		Watched:     p.Watched,
		UsedUnknown: p.UsedUnknown,
		Device:      p.Device,
		Spares:      toMembers(p.Spares),
		Logs:        toMembers(p.Logs),
	}
	for _, g := range p.Groups {
		out.Groups = append(
			out.Groups,
			pool.Group{
				Name:    g.Name,
				Protect: toProtection(g.Protection),
				Spread:  g.Spread,
				Heals:   g.Heals,
				Members: toMembers(g.Members),
			},
		)
	}
	for _, v := range p.Volumes {
		out.Volumes = append(
			out.Volumes,
			pool.Volume{
				Name:    v.Name,
				Group:   v.Group,
				Protect: toProtection(v.Protection),
				Used:    drive.Bytes(v.UsedBytes),
				Extents: toExtents(v.Extents),
			},
		)
	}
	return out
}

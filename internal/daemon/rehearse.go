package daemon

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"lantern/internal/agent/pools"
	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/core/drive"
	"lantern/internal/core/history"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/lab"
	"lantern/internal/practice"
	"lantern/internal/wire"
)

// practiceFile marks a folder as that of a rehearsal, and names the pool of which it is a copy.
const practiceFile = "practice.json"

// Rehearsal is a service on a lab copy of a pool and its hosts. It does not know the address of the original service.
// Its hosts are those of its lab, and no other is ever enrolled, so its orders cannot reach a real drive.
type Rehearsal struct {
	Serve
	Pool string
	// Copy is the copied pool; nil continues the rehearsal in the folder.
	Copy    *api.Copy
	Person  string
	Speed   float64 // pace of time while there is nothing to do but wait
	Mishaps []string
	folder  string // the option for the folder, if it was given
}

// Mishaps describes the mishaps, one per line.
func Mishaps() string { return practice.List() }

// Check checks the settings, and finds the folder if none was given.
func (c *Rehearsal) Check() error {
	for _, m := range c.Mishaps {
		if !practice.Mishap(m).Known() {
			return fmt.Errorf("no mishap %q; there are\n%s", m, practice.List())
		}
	}
	if c.Speed < 0 || c.Speed > 10000 {
		return fmt.Errorf("the lab runs between 0 and 10,000 times as fast as real time, not %g times", c.Speed)
	}
	if c.Data != "" {
		c.folder = " --data " + c.Data
	} else {
		cache, err := os.UserCacheDir()
		if err != nil {
			return fmt.Errorf("no cache folder is known (%w): choose a folder with --data", err)
		}
		c.Data = filepath.Join(cache, "lantern", "practice", url.PathEscape(c.Pool))
	}
	return nil
}

// kept is stored in the folder of a rehearsal beside its lab and its service.
type kept struct {
	api.Practice
	Person   string            `json:"person"`
	Differs  []string          `json:"differs"`
	Verdicts map[string]string `json:"verdicts"` // verdicts in the real fleet, by serial
	Needs    []string          `json:"needs"`    // label tails of the members that need a person
}

// Run serves the rehearsal until ctx ends.
func (c Rehearsal) Run(ctx context.Context) error {
	if err := c.canListen(); err != nil {
		return err // before anything of an earlier rehearsal is removed
	}
	fleet, k, err := c.prepare()
	if err != nil {
		return err
	}
	for _, m := range c.Mishaps {
		if err := fleet.Throw(k.Pool, practice.Mishap(m)); err != nil {
			return err
		}
	}
	if c.Speed > 0 {
		if err := fleet.SetHurry(c.Speed); err != nil {
			return err
		}
	}
	c.copied = k.Practice
	c.Log = c.Log.With("practice", k.Pool)
	c.Out = &practice.Writer{W: c.Out}
	return stage{Serve: c.Serve, fleet: fleet, person: k.Person,
		opened: func(ctx context.Context, r *running, link string) error {
			verdicts, err := c.await(ctx, r)
			if err == nil {
				c.greet(r, link, k, verdicts)
			}
			return err
		}}.run(ctx)
}

// prepare makes the lab for the copy, or opens the one in the folder.
func (c Rehearsal) prepare() (*lab.Fleet, kept, error) {
	mark, place := filepath.Join(c.Data, practiceFile), filepath.Join(c.Data, "lab.json")
	var k kept
	b, err := os.ReadFile(mark)
	found := err == nil
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, k, err
	}
	if c.Copy == nil {
		if !found {
			return nil, k, fmt.Errorf(
				"no rehearsal in %s to continue: leave out --go-on, and a copy is made",
				c.Data,
			)
		}
		if err := json.Unmarshal(b, &k); err != nil {
			return nil, k, fmt.Errorf("%s is damaged (%w): start again without --go-on", mark, err)
		}
		fleet, err := lab.Open(place, k.CopiedAt, 1, func(time.Time) *lab.Fleet { return &lab.Fleet{} })
		if err == nil && !fleet.Filled {
			err = fmt.Errorf("the rehearsal in %s was stopped while it was made: start again without --go-on", c.Data)
		}
		return fleet, k, err
	}
	if there, _ := os.ReadDir(c.Data); len(there) > 0 && !found {
		return nil, k, fmt.Errorf("%s holds other files and no rehearsal: choose another folder with --data", c.Data)
	}
	if err := forgetLab(c.Data); err != nil {
		return nil, k, err
	}
	if err := private(c.Data); err != nil {
		return nil, k, err
	}
	k = kept{
		Practice: api.Practice{Pool: c.Copy.Pool, CopiedAt: c.Copy.At},
		Person:   c.Person,
		Differs:  c.Copy.Differs,
		Verdicts: map[string]string{},
	}
	for _, d := range c.Copy.Drives {
		k.Verdicts[d.Drive.Identity.Serial] = string(d.Verdict)
	}
	k.Needs = needs(*c.Copy)
	if b, err = json.Marshal(k); err != nil {
		return nil, k, err
	}
	if err := os.WriteFile(mark, b, 0o600); err != nil {
		return nil, k, err
	}
	hosts, drives, ps := fromCopy(c.Copy)
	fleet, err := lab.Copied(place, c.Copy.At, hosts, drives, ps)
	return fleet, k, err
}

// needs are the label tails of the pool's members that must be replaced, the worst first.
func needs(c api.Copy) (tails []string) {
	p := wire.ToPool(c.Pools[0])
	for _, v := range []api.Verdict{api.Dead, api.Replace} {
		for _, d := range c.Drives {
			if _, _, ok := p.Find(d.Key); ok && d.Verdict == v {
				tails = append(tails, wire.ToIdentity(d.Drive.Identity).Tail())
			}
		}
	}
	return tails
}

// attributeOf is the ATA attribute with which a lab drive reports a metric that other kinds of drives report in another
// way.
var attributeOf = map[string]byte{"grown_defects": 5, "media_errors": 187, "uncorrected_read_errors": 187}

// answerable gives every drive of a copy an identity that a lab drive can report; nearly all keep their own.
func answerable(c *api.Copy) {
	became := map[string]string{}
	for i := range c.Drives {
		d := &c.Drives[i]
		desc := wire.ToDescription(d.Drive)
		lab.Answerable(&desc, i)
		became[d.Key], d.Drive.Identity = desc.Key(), wire.Identity(desc.Identity)
		d.Key = desc.Key()
	}
	for i := range c.Pools {
		p := &c.Pools[i]
		members := [][]api.MemberReport{p.Spares, p.Logs}
		for _, g := range p.Groups {
			members = append(members, g.Members)
		}
		for _, ms := range members {
			for k := range ms {
				ms[k].Drive = became[ms[k].Drive]
			}
		}
		for k := range p.Recoveries {
			p.Recoveries[k].Drive = became[p.Recoveries[k].Drive]
		}
	}
}

// fromCopy makes the lab's hosts, drives and pools from a copy.
func fromCopy(c *api.Copy) (hosts []*lab.Host, drives []*lab.Drive, ps []*lab.Pool) {
	answerable(c)
	for _, h := range c.Hosts {
		x := &lab.Host{Name: h.Name, Room: h.Room}
		for _, l := range h.Layouts {
			layout, err := wire.ToLayout(l)
			if err != nil {
				continue // it cannot be drawn, so it has no map
			}
			x.Layout = append(x.Layout, layout)
			if !l.Told {
				for _, sec := range layout.Sections {
					x.Untold = append(x.Untold, sec.Name)
				}
			}
		}
		hosts = append(hosts, x)
	}
	for _, d := range c.Drives {
		drives = append(drives, driveFrom(d, c.At))
	}
	for _, r := range c.Pools {
		p := &lab.Pool{
			Pool:     onWholeDrives(wire.ToPool(r)),
			Host:     c.Hosts[0].Name,
			Fill:     recovery.Rebuild,
			Priority: recovery.Priority(r.Priority),
			Stuck:    r.Waits != "",
		}
		p.Everyone(func(group string, m *pool.Member) {
			if group != "" && m.Domain != "" && p.Host == c.Hosts[0].Name {
				p.Host = m.Domain
			}
		})
		if slices.ContainsFunc(p.Groups, func(g pool.Group) bool { return g.Heals }) {
			p.Fill = recovery.Rebalance
		}
		for _, o := range r.Offers {
			p.Can = append(p.Can, pools.Offer(o))
		}
		for _, x := range r.Recoveries {
			rec := wire.ToRecovery(x, c.At)
			p.Recs = append(p.Recs, rec)
			if rec.Kind == recovery.Resilver || rec.Kind == recovery.Rebuild {
				p.Fill = rec.Kind
			}
		}
		p.Seq = len(p.Recs) + 1000 // new ids differ from those that were copied
		ps = append(ps, p)
	}
	return hosts, drives, ps
}

// onWholeDrives changes a pool to one whose members are whole drives: the lab has no partitions and no layers between
// drives and pools.
func onWholeDrives(p pool.Pool) pool.Pool {
	p.Everyone(func(_ string, m *pool.Member) { m.Device, m.Partition, m.Layers, m.Under = "", 0, nil, "" })
	return p
}

// driveFrom makes a lab drive that reports what is known of a real one.
func driveFrom(d api.CopyDrive, at time.Time) *lab.Drive {
	desc := wire.ToDescription(d.Drive)
	speaks := d.Drive.Blind == "" || len(d.Reading.Metrics) > 0
	desc.SMARTSupported, desc.SMARTEnabled, desc.SelfTests, desc.GeneralLogs = speaks, speaks, speaks, true
	if desc.LogicalSector == 0 {
		desc.LogicalSector, desc.PhysicalSector = 512, 512
	}
	const longAgo = 400 * 24 * time.Hour
	hours := time.Duration(d.PowerOnHours * float64(time.Hour))
	x := &lab.Drive{
		Desc:   desc,
		Born:   at.Add(-hours),
		Tested: at,
		Holds:  slices.Clone(d.Drive.Holds),
		Stays:  []lab.Stay{{Host: d.Host, Section: d.Drive.Section, Bay: d.Drive.Bay, From: at.Add(-longAgo)}},
	}
	if !d.Present {
		x.Stays[0].To = d.SeenAt
	}
	if d.Slower > 1 {
		x.Slow, x.SlowAt = d.Slower, d.SlowerSince
	}
	if d.Reading.Failing {
		x.Faults = append(x.Faults, lab.Fault{Kind: lab.FaultFailing, From: d.Reading.At})
	}
	if slices.ContainsFunc(
		d.Reading.Unreadable,
		func(p api.BadPage) bool { return strings.HasPrefix(p.Kind, "ata-smart") },
	) {
		x.Faults = append(x.Faults, lab.Fault{Kind: lab.FaultDamaged, From: d.Reading.At})
	}
	for _, c := range d.Courses {
		m, _ := drive.MetricByName(drive.MetricName(c.Metric))
		f := lab.Fault{Kind: lab.FaultCourse, Attribute: m.Attribute, PerDay: c.PerDay, From: c.Points[0].At}
		if f.Attribute == 0 {
			f.Attribute = attributeOf[c.Metric]
		}
		for _, p := range c.Points {
			f.Course = append(f.Course, history.PointAt(p.At, p.Value))
		}
		if f.Attribute != 0 {
			x.Faults = append(x.Faults, f)
		}
	}
	if tests := wire.ToSelfTests(d.Reading.Tests); len(tests) > 0 && tests[0].Result == drive.SelfTestFailed {
		since := time.Duration(max(0, int(d.PowerOnHours)&0xFFFF-tests[0].Hours)) * time.Hour
		x.Faults = append(
			x.Faults,
			lab.Fault{Kind: lab.FaultFailedTest, LBA: tests[0].LBA, From: at.Add(-since - time.Hour)},
		)
	}
	return x
}

// await waits until every host of the copy has reported, and gives the service what people had entered in the real one.
// It returns the verdicts in the rehearsal, by serial.
func (c Rehearsal) await(ctx context.Context, r *running) (map[string]string, error) {
	for {
		ready := true
		for _, h := range r.service.Views.Hosts() {
			ready = ready && h.State == api.HostStateReporting
		}
		if ready {
			break
		}
		if err := (clock.Real{}).Sleep(ctx, 100*time.Millisecond); err != nil {
			return nil, err
		}
	}
	if c.Copy != nil {
		if err := r.service.Rehearsal.TakeOver(*c.Copy); err != nil {
			return nil, err
		}
	}
	verdicts := map[string]string{}
	for ask := (api.ListDrivesParams{Limit: 1000}); ; {
		page, err := r.service.Views.Drives(ask)
		if err != nil {
			return nil, err
		}
		for _, d := range page.Drives {
			verdicts[d.Identity.Serial] = string(d.Verdict)
		}
		if ask.Cursor = page.Next; ask.Cursor == "" {
			return verdicts, nil
		}
	}
}

func (c Rehearsal) greet(r *running, link string, k kept, verdicts map[string]string) {
	config := filepath.Join(c.Data, "client.yaml")
	if whole, err := filepath.Abs(config); err == nil {
		config = whole
	}
	say := func(format string, args ...any) { fmt.Fprintf(c.Out, format+"\n", args...) }
	say(
		"A copy of %s as of %s. Nothing here is real, and nothing done here reaches a real host.",
		k.Pool,
		k.CopiedAt.Local().Format("2006-01-02 15:04:05"),
	)
	say("")
	say("  console   %s/sign-in/once?code=%s", r.url, link)
	say("  terminal  export LANTERN_CONFIG=%s", config)
	say("")
	differs := slices.Clone(k.Differs)
	for _, serial := range slices.Sorted(maps.Keys(k.Verdicts)) {
		if c.Copy == nil {
			break // changes of the rehearsal since then are intended
		}
		if was, is := k.Verdicts[serial], verdicts[serial]; was != is && is != "" {
			differs = append(differs, fmt.Sprintf("%s is %s in reality, and %s in the rehearsal", serial, was, is))
		}
	}
	if len(differs) == 0 {
		say("Pool, drives, bays and verdicts are those of the real service.")
	} else {
		say("Differences from the real service:")
		for _, d := range differs {
			say("  - %s", d)
		}
	}
	say("")
	if len(k.Needs) > 0 {
		say("Rehearse with: lantern swap plan %s", k.Needs[0])
	} else {
		say("No member of %s needs to be replaced now. Rehearse with any: lantern swap plan <drive>", k.Pool)
	}
	say("By hand:       lantern lab pull <bay>, lantern lab insert <bay>; faults: lantern lab mishap --help")
	if c.Speed > 0 {
		say(
			"Time runs %g times as fast while nothing but waiting is left, and in real time while a person is needed.",
			c.Speed,
		)
	}
	say("Stop with Ctrl-C. Continue later with: lantern rehearse %s --go-on%s", k.Pool, c.folder)
}

package selftests

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"
	_ "time/tzdata"

	"lantern/internal/api"
	"lantern/internal/core/selftest"
)

// localZone is the name of this machine's time zone, UTC when it does not say.
func localZone() string {
	name := os.Getenv("TZ")
	if name == "" {
		if link, err := filepath.EvalSymlinks("/etc/localtime"); err == nil {
			_, name, _ = strings.Cut(link, "zoneinfo/")
		}
	}
	if _, err := time.LoadLocation(name); err != nil || name == "" || strings.HasPrefix(name, "Etc/") {
		return "UTC"
	}
	return name
}

// listed names the first few of a list.
func listed(names []string, most int) string {
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return strings.Join(names, ", ")
}

func viewPlan(p *plan, drives int) api.Plan {
	c := p.Change
	out := api.Plan{
		Name:        p.planDoc.Name,
		Covers:      c.Covers,
		Zone:        c.Zone,
		Tests:       []api.PlanTest{},
		Windows:     c.Windows,
		Barred:      c.Barred,
		RunOver:     c.RunOver,
		Limits:      c.Limits,
		LeastMargin: c.LeastMargin,
		BusyPercent: c.BusyPercent,
		Wake:        c.Wake,
		By:          p.By,
		MadeAt:      p.Since,
		Drives:      drives,
		Says:        sentence(p),
		Open:        viewWindows(p.Windows),
		Closed:      viewWindows(p.Plan.Barred),
	}
	for i, t := range p.tests {
		out.Tests = append(
			out.Tests,
			api.PlanTest{
				Kind:        c.Tests[i].Kind,
				Every:       t.rule.Words(),
				Rrule:       t.rule.String(),
				Skips:       t.rule.Skips(),
				WithinHours: c.Tests[i].WithinHours,
			},
		)
	}
	return out
}

func viewWindows(all []selftest.Window) []api.PlanWindow {
	out := []api.PlanWindow{}
	for _, w := range all {
		v := api.PlanWindow{Text: w.String(), FromMinute: w.From, ToMinute: w.To}
		for day, on := range w.Days {
			if on {
				v.Days = append(v.Days, day)
			}
		}
		out = append(out, v)
	}
	return out
}

// sentence describes a plan.
func sentence(p *plan) string {
	var parts []string
	for _, t := range p.tests {
		one := fmt.Sprintf("%s tests %s", t.kind, t.rule.Words())
		if t.within > 0 {
			one += " within " + selftest.Words(t.within)
		}
		parts = append(parts, one)
	}
	if len(parts) == 0 {
		parts = append(parts, "no tests")
	}
	out := strings.Join(parts, ", ")
	texts := func(all []selftest.Window) string {
		var t []string
		for _, w := range all {
			t = append(t, w.String())
		}
		return strings.Join(t, " and ")
	}
	if len(p.Windows) > 0 {
		out += "; within " + texts(p.Windows)
	}
	if len(p.Plan.Barred) > 0 {
		out += "; never " + texts(p.Plan.Barred)
	}
	return out + " (" + p.Change.Zone + ")"
}

package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"lantern/internal/api"

	"github.com/urfave/cli/v3"
)

func swapReport(ctx context.Context, s *session, cmd *cli.Command) error {
	name := cmd.Args().First()
	id, err := s.swapID(ctx, name)
	var f *Failure
	if err != nil && name == "" && errors.As(err, &f) && f.Code == ExitFailed {
		return usage("no swap is open: lantern swap list\nExample: %s", example(cmd))
	}
	if err != nil {
		return err
	}
	if file := cmd.String("evidence"); file != "" {
		zip, err := answered(s.client.EvidenceOfSwap(ctx, id))
		return s.evidence(file, zip, err)
	}
	r, err := ask[api.SwapReport](s.client.ReportSwap(ctx, id))
	return tell(s, s.report, r, err)
}

// evidence stores an archive in a file.
func (s *session) evidence(file string, zip []byte, err error) error {
	if err != nil {
		return err
	}
	if err := os.WriteFile(file, zip, 0o600); err != nil {
		return err
	}
	s.out.line("%s, %s", file, decimal(int64(len(zip))))
	return nil
}

// report prints the record of a swap.
func (s *session) report(r api.SwapReport) {
	o, w := s.out, r.Swap
	when := func(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }
	o.line("%s", o.paint(fmt.Sprintf("Record of the swap of %s in %s, slot %s", w.Old.Tail, w.Pool, w.Slot), bold))
	o.line("%s; %s", w.Recipe, strings.Join(w.Why, "; "))
	o.line("out  %s  %s  serial %s", w.Old.Tail, w.Old.Model, w.Old.Serial)
	if w.New.Tail != "" {
		o.line("in   %s  %s  serial %s", w.New.Tail, w.New.Model, w.New.Serial)
	}
	o.line("people: %s; written %s", strings.Join(r.People, ", "), when(r.WrittenAt))
	if len(w.Loses) > 0 {
		o.line("%s", o.paint("lost on purpose: "+strings.Join(w.Loses, ", "), loud))
	}
	o.line("")
	o.line("%s", o.paint("Steps", bold))
	for _, st := range r.Steps {
		o.line("  %s  %8s  %s", when(st.From), span(time.Duration(st.Seconds*1e9)), st.Title)
	}
	o.line("")
	o.line("%s", o.paint("Margin", bold))
	for _, m := range r.Margins {
		o.line("  %s  %8s  %s", when(m.From), span(time.Duration(m.Seconds*1e9)), m.Margin.Words)
	}
	if len(w.Began) > 0 {
		o.line("")
		o.line("%s", o.paint("Checks when it began", bold))
		s.checks(w.Began)
	}
	for _, x := range []struct {
		title  string
		checks []api.Check
	}{{"Checks of the new drive", w.Admitted}, {"Checks at its end", w.Closing}} {
		if len(x.checks) > 0 {
			o.line("")
			o.line("%s", o.paint(x.title, bold))
			s.checks(x.checks)
		}
	}
	o.line("")
	o.line("%s", o.paint("Events", bold))
	for _, e := range w.Log {
		o.line("  %s  %-10s %s", when(e.At), e.Who, e.Says)
	}
	if w.Fate.Fate != "" {
		o.line("")
		o.line("the old drive: %s, by %s, %s %s", w.Fate.Fate, w.Fate.By, when(w.Fate.At), w.Fate.Note)
	}
	if len(w.Siblings) > 0 {
		o.line("")
		o.line("%s", o.paint("Of the same batch", bold))
		for _, x := range w.Siblings {
			o.line("  %s  %-8s %-22s %s", x.Tail, x.Verdict, cmp.Or(x.Bay, "no known bay"), x.Says)
		}
	}
}

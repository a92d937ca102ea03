// Package ownrule lets people write rules of their own, as CEL expressions over a drive's metrics: each metric by its
// name, and how much it grew as its name with _1h, _24h, _7d or _90d behind it.
package ownrule

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/interpreter"

	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
)

// spans are the endings by which growth is asked for.
var spans = []struct {
	ending string
	of     time.Duration
}{{"_1h", time.Hour}, {"_24h", 24 * time.Hour}, {"_7d", 7 * 24 * time.Hour}, {"_90d", 90 * 24 * time.Hour}}

// words are what else can be asked for.
var words = map[string]*cel.Type{
	"model":  cel.StringType,
	"medium": cel.StringType,
	"host":   cel.StringType,
	"pool":   cel.StringType,
}

// Words lists them.
func Words() []string {
	var out []string
	for w := range words {
		out = append(out, w)
	}
	slices.Sort(out)
	return out
}

// mostCost is how much work one evaluation may be. An expression over single numbers needs a few dozen.
const mostCost = 5_000

// Error is what is wrong with an expression, and where.
type Error struct {
	Line, Column int // from 1; 0 when it is nowhere in particular
	Says         string
	Nearest      string // the name that may have been meant
}

func (e *Error) Error() string {
	s := e.Says
	if e.Line > 0 {
		s = fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, s)
	}
	if e.Nearest != "" {
		s += "; did you mean " + e.Nearest + "?"
	}
	return s
}

// Program is an expression that can be asked.
type Program struct {
	program cel.Program
	// Metrics are those it asks for.
	Metrics []drive.MetricName
}

// env is made once: what can be named does not change.
var env = func() *cel.Env {
	options := []cel.EnvOption{cel.CrossTypeNumericComparisons(true)}
	for _, m := range drive.Catalogue {
		options = append(options, cel.Variable(string(m.Name), cel.DoubleType))
		for _, s := range spans {
			options = append(options, cel.Variable(string(m.Name)+s.ending, cel.DoubleType))
		}
	}
	for w, t := range words {
		options = append(options, cel.Variable(w, t))
	}
	e, err := cel.NewEnv(options...)
	if err != nil {
		panic(err) // only our own names are in it
	}
	return e
}()

var undeclared = regexp.MustCompile(`undeclared reference to '([^']*)'`)

// longest is how long an expression may be.
const longest = 4096

// Compile reads an expression. It must say yes or no, name what there is, and end soon; else the error is an *Error.
func Compile(expression string) (*Program, error) {
	if len(expression) > longest {
		return nil, &Error{Says: fmt.Sprintf("it has %d characters, at most %d are read", len(expression), longest)}
	}
	ast, issues := env.Compile(expression)
	if issues.Err() != nil {
		first := issues.Errors()[0]
		e := &Error{Line: first.Location.Line(), Column: first.Location.Column() + 1, Says: first.Message}
		if m := undeclared.FindStringSubmatch(first.Message); m != nil {
			e.Says = fmt.Sprintf("there is nothing named %q", m[1])
			e.Nearest = nearest(m[1])
		}
		if strings.Contains(first.Message, "double, int") || strings.Contains(first.Message, "int, double") {
			e.Says += "; write numbers with a point here, such as 1.0"
		}
		return nil, e
	}
	if ast.OutputType() != cel.BoolType {
		return nil, &Error{
			Says: fmt.Sprintf(
				"it gives a %s; a rule says true or false, such as pending_sectors_24h > 2",
				ast.OutputType(),
			),
		}
	}
	p, err := env.Program(ast, cel.CostLimit(mostCost))
	if err != nil {
		return nil, &Error{Says: err.Error()}
	}
	out := &Program{program: p}
	for _, r := range ast.NativeRep().ReferenceMap() {
		if n, _ := split(r.Name); n != "" && !slices.Contains(out.Metrics, n) {
			out.Metrics = append(out.Metrics, n)
		}
	}
	slices.Sort(out.Metrics)
	// One that takes too long shows itself with any numbers; the limit holds for each evaluation later as well.
	if _, err := out.ask(zeros{}); err != nil {
		if strings.Contains(err.Error(), "cost limit") {
			return nil, &Error{Says: "it is too much work for each reading of each drive"}
		}
		return nil, &Error{Says: "it cannot be worked out: " + err.Error()}
	}
	return out, nil
}

// split takes a name apart into a metric and how far back its growth is asked for; zero means its value.
func split(name string) (drive.MetricName, time.Duration) {
	if _, ok := drive.MetricByName(drive.MetricName(name)); ok {
		return drive.MetricName(name), 0
	}
	for _, s := range spans {
		if n, ok := strings.CutSuffix(name, s.ending); ok {
			if _, ok := drive.MetricByName(drive.MetricName(n)); ok {
				return drive.MetricName(n), s.of
			}
		}
	}
	return "", 0
}

func nearest(name string) string {
	for _, s := range spans {
		if n, ok := strings.CutSuffix(name, s.ending); ok {
			return string(drive.Nearest(n)) + s.ending
		}
	}
	return string(drive.Nearest(name))
}

// Facts are what is known of a drive beside its numbers.
type Facts struct{ Model, Medium, Host, Pool string }

// Holds reports whether the rule holds for a drive now. Of a drive that never told a metric that it asks for, it does
// not. An error means that it could not be worked out.
func (p *Program) Holds(r history.Record, at time.Time, f Facts) (bool, error) {
	for _, n := range p.Metrics {
		if len(r[n]) == 0 {
			return false, nil
		}
	}
	return p.ask(known{r, at, f})
}

func (p *Program) ask(vars interpreter.Activation) (bool, error) {
	v, _, err := p.program.Eval(vars)
	if err != nil {
		return false, err
	}
	return asBool(v), nil
}

func asBool(v ref.Val) bool {
	b, ok := v.Value().(bool)
	return ok && b
}

// known resolves names from what is known of a drive.
type known struct {
	record history.Record
	at     time.Time
	facts  Facts
}

func (k known) Parent() interpreter.Activation { return nil }

func (k known) ResolveName(name string) (any, bool) {
	switch name {
	case "model":
		return k.facts.Model, true
	case "medium":
		return k.facts.Medium, true
	case "host":
		return k.facts.Host, true
	case "pool":
		return k.facts.Pool, true
	}
	n, over := split(name)
	series := k.record[n]
	last, ok := series.Last()
	if !ok {
		return nil, false
	}
	if over == 0 {
		return last.Value, true
	}
	m, _ := drive.MetricByName(n)
	var grown float64
	if m.Kind == drive.Counter {
		grown, _ = series.Growth(k.at.Add(-over))
	} else {
		grown, _ = series.Risen(k.at.Add(-over))
	}
	return grown, true
}

// zeros is a drive of which every number is zero.
type zeros struct{}

func (zeros) Parent() interpreter.Activation { return nil }

func (zeros) ResolveName(name string) (any, bool) {
	if _, ok := words[name]; ok {
		return "", true
	}
	return 0.0, true
}

// Rule is one of somebody's own.
type Rule struct {
	ID         string         `json:"id"`
	Says       string         `json:"says"` // what it means when it holds
	Do         string         `json:"do"`
	Expression string         `json:"expression"`
	Verdict    health.Verdict `json:"verdict"` // watch or replace
	By         string         `json:"by"`
	Made       time.Time      `json:"made"`
}

// Hit is what is found when the rule holds, with the numbers that it asked for.
func (r Rule) Hit(p *Program, record history.Record, at time.Time) health.Hit {
	h := health.Hit{Rule: health.Own + r.ID, Verdict: r.Verdict, At: at, Text: []string{r.Says, r.Do}}
	for _, n := range p.Metrics {
		if last, ok := record[n].Last(); ok {
			m, _ := drive.MetricByName(n)
			h.Text = append(h.Text, fmt.Sprintf("%s is %g %s", n, last.Value, m.Unit))
			h.Metric = n
			if last.At().After(h.Since) {
				h.At = last.At()
			}
		}
	}
	return h
}

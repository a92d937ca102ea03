package history

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"lantern/internal/core/drive"
)

// Comparison is one condition on a metric's newest value.
type Comparison struct {
	Metric drive.MetricName
	Op     string
	Value  float64
}

var comparison = regexp.MustCompile(`^\s*([a-z][a-z0-9_]*)\s*(>=|<=|!=|=|>|<)\s*(-?[0-9]+(?:\.[0-9]+)?)\s*$`)

// ParseWhere reads comparisons joined by commas, such as "pending_sectors>0, temperature_celsius>=45".
func ParseWhere(s string) ([]Comparison, error) {
	var out []Comparison
	for _, part := range strings.Split(s, ",") {
		if strings.TrimSpace(part) == "" {
			continue
		}
		m := comparison.FindStringSubmatch(part)
		if m == nil {
			return nil, fmt.Errorf("%q is not a comparison, such as pending_sectors>0", strings.TrimSpace(part))
		}
		if _, ok := drive.MetricByName(drive.MetricName(m[1])); !ok {
			return nil, fmt.Errorf("no metric %q; did you mean %s?", m[1], drive.Nearest(m[1]))
		}
		v, err := strconv.ParseFloat(m[3], 64)
		if err != nil {
			return nil, err
		}
		out = append(out, Comparison{drive.MetricName(m[1]), m[2], v})
	}
	return out, nil
}

// Holds reports whether a record meets the condition; false for a drive without the metric.
func (c Comparison) Holds(r Record) bool {
	p, ok := r[c.Metric].Last()
	if !ok {
		return false
	}
	switch c.Op {
	case ">":
		return p.Value > c.Value
	case "<":
		return p.Value < c.Value
	case ">=":
		return p.Value >= c.Value
	case "<=":
		return p.Value <= c.Value
	case "=":
		return p.Value == c.Value
	}
	return p.Value != c.Value
}

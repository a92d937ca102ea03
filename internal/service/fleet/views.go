package fleet

import (
	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
)

// The views are the data that all three interfaces show: made here, once, from the core's values.

func ViewFinding(f health.Finding) api.Finding {
	out := api.Finding{
		Rule:     f.Rule,
		Verdict:  api.Verdict(f.Verdict),
		Strength: string(f.Strength),
		Says:     f.Says,
		Do:       f.Do,
		Since:    f.Since,
		Metric:   string(f.Metric),
		Evidence: []api.Evidence{},
	}
	for _, e := range f.Evidence {
		out.Evidence = append(
			out.Evidence,
			api.Evidence{Metric: string(e.Metric), Says: e.Says, At: e.At, Source: e.Source},
		)
	}
	return out
}

// ViewMetric is the newest value of a metric, if there is one.
func (s *State) ViewMetric(d *Drive, m drive.Metric) (v api.MetricValue, ok bool) {
	last, ok := d.Record[m.Name].Last()
	if !ok {
		return v, false
	}
	return api.MetricValue{
		Name:     string(m.Name),
		Unit:     m.Unit,
		Value:    last.Value,
		Kind:     string(m.Kind),
		Strength: string(m.Strength),
		Means:    m.Means,
		MeansNot: m.MeansNot,
		Source:   d.Source(m.Name),
		At:       last.At(),
	}, true
}

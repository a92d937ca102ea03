package stock

import (
	"lantern/internal/api"
	"lantern/internal/core/record"
)

func ViewChecks(in []record.Check) []api.Check {
	out := make([]api.Check, len(in))
	for i, c := range in {
		out[i] = api.Check{
			Id:     c.ID,
			Title:  c.Title,
			Looked: c.Looked,
			Found:  c.Found,
			Do:     c.Do,
			Result: api.CheckResult(c.Result),
			Loses:  c.Loses,
		}
	}
	return out
}

func ViewLog(in []record.Entry) []api.LogEntry {
	out := []api.LogEntry{}
	for _, e := range in {
		out = append(out, api.LogEntry{At: e.At, Who: e.Who, Says: e.Says})
	}
	return out
}

package recoveries

import (
	"time"
)

func LastMove(c *Course) time.Time {
	for i := len(c.Samples) - 1; i > 0; i-- {
		if c.Samples[i].Done > c.Samples[i-1].Done {
			return c.Samples[i].At
		}
	}
	return c.StartedAt
}

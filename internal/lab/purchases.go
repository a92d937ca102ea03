package lab

import (
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"time"
)

// Purchase is what the station's people wrote down of a drive, by the names of the inventory's fields.
type Purchase struct {
	Serial string
	Fields map[string]string
}

// suppliers sold drives of a make, by the first word of the model; all are made up.
var suppliers = map[string]string{"VELDRUN": "Harbour Supply", "OSSFELL": "Tern & Daughter", "": "Northlight Parts"}

// Purchases are what was written down of every drive of the fleet, and of those that failed in the years before and
// went away, as of now. They follow from the drives alone, so that the same fleet has the same.
func (f *Fleet) Purchases(now time.Time) []Purchase {
	f.mu.Lock()
	defer f.mu.Unlock()
	var out []Purchase
	for _, d := range f.Drives {
		if d.Desc.Serial == "" {
			continue
		}
		out = append(out, purchase(d.Desc.Serial, d.Desc.Model, uint64(d.Desc.Capacity), d.Born))
	}
	slices.SortFunc(out, func(a, b Purchase) int { return strings.Compare(a.Serial, b.Serial) })
	// One in six or so of each model's failed before: its serial is one of the same run that is not there any more.
	models := map[string]int{}
	for _, d := range slices.Clone(f.Drives) {
		n := draw(d.Desc.Serial+"past", 23)
		if d.Desc.Serial == "" || n > 3 || models[d.Desc.Model] > 6 {
			continue
		}
		models[d.Desc.Model]++
		serial := d.Desc.Serial[:max(0, len(d.Desc.Serial)-3)] + fmt.Sprintf("%03d", 900+draw(d.Desc.Serial, 99))
		if slices.ContainsFunc(f.Drives, func(x *Drive) bool { return x.Desc.Serial == serial }) {
			continue
		}
		p := purchase(serial, d.Desc.Model, uint64(d.Desc.Capacity), d.Born)
		lived := 200 + draw(serial, 900)
		end := d.Born.AddDate(0, 0, lived)
		if !end.Before(now.AddDate(0, 0, -30)) {
			continue
		}
		p.Fields["state_day"] = end.Format(time.DateOnly)
		if draw(serial+"fate", 3) == 0 {
			p.Fields["state"], p.Fields["state_number"] = "destroyed", fmt.Sprintf("cert %d", 300+draw(serial, 200))
		} else {
			p.Fields["state"], p.Fields["state_number"] = "sent-back", fmt.Sprintf("RMA %d", 40000+draw(serial, 9999))
		}
		out = append(out, p)
	}
	return out
}

// draw gives a number below n that follows from a text.
func draw(text string, n int) int {
	h := fnv.New32a()
	_, _ = h.Write([]byte(text))
	return int(h.Sum32() % uint32(n))
}

// purchase is what was written down of one drive that began to run at born.
func purchase(serial, model string, capacity uint64, born time.Time) Purchase {
	make, _, _ := strings.Cut(model, " ")
	supplier, ok := suppliers[make]
	if !ok {
		supplier = suppliers[""]
	}
	bought := born.AddDate(0, 0, -8-draw(serial[:max(0, len(serial)-2)], 30))
	years := "5y"
	if capacity < 3e12 {
		years = "3y"
	}
	price := 38 + float64(capacity)/1e12*17.5 - float64(bought.Year()-2018)*2
	run := serial[:max(0, len(serial)-3)]
	return Purchase{Serial: serial, Fields: map[string]string{
		"model":     model,
		"purchased": bought.Format(time.DateOnly),
		"supplier":  supplier,
		"order":     fmt.Sprintf("HP-%d-%03d", bought.Year(), draw(run+bought.Format("2006-01"), 400)),
		"price":     fmt.Sprintf("%.2f", max(29, price)),
		"currency":  "EUR",
		"warranty":  years,
		"batch":     fmt.Sprintf("%s-%s", run, bought.Format("0601")),
		"asset":     fmt.Sprintf("HPMS-%05d", 10000+draw(serial, 80000)),
	}}
}

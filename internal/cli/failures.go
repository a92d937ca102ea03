package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

// mostRate is the yearly rate above which the end of a range is not shown: the time of observation was too short.
const mostRate = 100

// yearlyCell is a rate in percent a year.
func yearlyCell(v float64) cell {
	switch {
	case v >= api.MostRate:
		return cell{text: "any", right: true, raw: ""}
	case v > mostRate:
		return cell{text: "any", right: true, raw: percent(v)}
	}
	return cell{text: fmt.Sprintf("%.1f %%", 100*v), right: true, raw: percent(v)}
}

func failuresCommand() *cli.Command {
	return &cli.Command{
		Name:  "failures",
		Usage: "failure rates by model, age, batch, supplier, enclosure or position, and survival",
		Description: "Example: lantern failures\n         lantern failures --by age --counts dead\n" +
			"         lantern failures --survival --model \"VELDRUN VR4-4000\"\n\n" +
			"PER YEAR is failures per drive and year. The true rate is within LOW and HIGH with the confidence that is asked " +
			"for; few\n" +
			"drives or years give a wide range, which is no alarm. What is certain to be worst comes first.\n" +
			"What counts as a failure: replace (a strong finding that it is to be replaced or is dead), dead, or gone (it " +
			"was sent back\n" +
			"or destroyed). A drive counts from its purchase where that is written, else from the day on which it was first " +
			"seen.",
		Flags: append([]cli.Flag{
			&cli.StringFlag{
				Name:  "by",
				Local: true,
				Value: "model",
				Usage: "model, age, batch, supplier, enclosure or position",
			},
			&cli.StringFlag{Name: "counts", Local: true, Value: "replace", Usage: "replace, dead or gone"},
			&cli.StringFlag{Name: "model", Local: true, Usage: "only this model"},
			&cli.FloatFlag{Name: "confidence", Local: true, Value: 95, Usage: "confidence of the ranges, in percent"},
			&cli.BoolFlag{Name: "survival", Local: true, Usage: "survival by age, instead of rates"},
		}, tableFlags()...),
		Action: listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
			v, err := ask[api.Failures](
				s.client.GetFailures(ctx, &api.GetFailuresParams{By: cmd.String("by"), Counts: cmd.String("counts"),
					Model: cmd.String("model"), Confidence: cmd.Float("confidence") / 100}),
			)
			if err != nil {
				return err
			}
			if s.out.format == "json" {
				_, err := s.out.value(v)
				return err
			}
			if cmd.Bool("survival") {
				return list(
					s,
					v.Survival,
					"No drive failed at a known age.",
					[]column{
						col("age_hours").as("AGE"),
						col("reach_percent").as("REACH IT"),
						col("low_percent").as("LOW"),
						col("high_percent").as("HIGH"),
						col("at_risk"),
						col("failed"),
					},
					func(p api.SurvivalPoint) []cell {
						return []cell{
							{text: age(int(p.Hours)), right: true, raw: p.Hours},
							percentCell(p.Well),
							percentCell(p.Low),
							percentCell(p.High),
							countCell(p.AtRisk),
							countCell(p.Failed),
						}
					},
				)
			}
			all := v.All
			all.Name = "all"
			err = list(s, append(v.Groups, all), "",
				[]column{col(v.By), // never folded: a text of a device must not begin a line
					col(
						"drives",
					), col("drive_years").as("YEARS"), col("failures"), col("per_year_percent").as("PER YEAR"),
					col("low_percent").as("LOW"),
					col("high_percent").as("HIGH")},
				func(r api.FailureRate) []cell {
					return []cell{
						{text: r.Name, style: bold},
						countCell(r.Drives),
						{text: fmt.Sprintf("%.1f", r.DriveYears), right: true, raw: r.DriveYears},
						countCell(r.Failures),
						yearlyCell(r.PerYear),
						yearlyCell(r.Low),
						yearlyCell(r.High),
					}
				})
			if s.out.format == "table" && err == nil {
				s.out.line("%s. Ranges hold with %.0f %% confidence.", v.Says, 100*v.Confidence)
			}
			return err
		}),
	}
}

func stockAdvice() *cli.Command {
	return &cli.Command{
		Name:  "advise",
		Usage: "how many spare drives of each kind to hold until the next delivery, and what to buy",
		Description: "Example: lantern stock advise\n         lantern stock advise --delivery 6w --confidence 99\n\n" +
			"HOLD is the number to be replaced now plus those that fail before a delivery comes, with no more than the " +
			"accepted risk of\n" +
			"one too few (Poisson, at the rate of drives of this kind). BUY is what of that is not in stock. STOCK counts " +
			"drives that\n" +
			"passed their acceptance test, are sound and not reserved, and are in a bay or written down as on the shelf.",
		Flags: append([]cli.Flag{
			&DurationFlag{Name: "delivery", Local: true, Value: 14 * 24 * time.Hour, Usage: "delivery time"},
			&cli.FloatFlag{Name: "confidence", Local: true, Value: 95, Usage: "probability that the stock suffices, in percent"},
		}, tableFlags()...),
		Action: listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
			v, err := ask[api.StockAdvice](
				s.client.GetStockAdvice(ctx, &api.GetStockAdviceParams{LeadDays: cmd.Duration("delivery").Hours() / 24,
					Confidence: cmd.Float("confidence") / 100}),
			)
			if err != nil {
				return err
			}
			if s.out.format == "json" {
				_, err := s.out.value(v)
				return err
			}
			err = list(
				s,
				v.Kinds,
				"No pool has a drive yet.",
				[]column{
					col("buy"),
					col("hold"),
					col("stock"),
					col("now"),
					col("unknown").more(),
					col("size_bytes").as("SIZE"),
					col("medium").spare(1),
					col("members"),
					col("pools").fold(12).spare(2),
					col(
						"expected",
					).more(),
					col("per_year_percent").more(),
					col("risk_percent").more(),
					col("says").fold(26).as("WHY"),
				},
				func(k api.StockNeed) []cell {
					buy := countCell(k.Buy)
					if k.Buy > 0 {
						buy.style = bold
					}
					return []cell{
						buy,
						countCell(k.Hold),
						countCell(len(k.Stock)),
						countCell(len(k.Now)),
						countCell(len(k.Unknown)),
						bytesCell(k.CapacityBytes),
						{text: k.Medium},
						countCell(k.Members),
						{
							text: strings.Join(k.Pools, ", "),
						},
						{text: number(k.Expected), right: true, raw: k.Expected},
						yearlyCell(k.PerYear),
						percentCell(k.Risk),
						{text: k.Says},
					}
				},
			)
			if s.out.format == "table" && err == nil {
				adviceNotes(s.out, v)
			}
			return err
		}),
	}
}

// adviceNotes list the drives that do not count, and the places for which there is no spare.
func adviceNotes(o *printer, v api.StockAdvice) {
	for _, k := range v.Kinds {
		for _, x := range k.Other {
			o.line("Not counted: %s, %s.", x.Tail, x.Says)
		}
	}
	for _, c := range v.Cover {
		switch {
		case c.Says != "":
			o.line("%s: cover %s.", c.Pool, c.Says)
		case len(c.Open) == c.Places:
			o.line("%s: no spare and no stock known to fit any of its %s.", c.Pool, plural(c.Places, "place"))
		case len(c.Open) > 0:
			o.line("%s: no spare and no stock known to fit %s of %d.", c.Pool, plural(len(c.Open), "place"), c.Places)
		}
	}
}

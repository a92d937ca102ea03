package cli

import (
	"context"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

// room is a pool in its present state, or with one way to increase its capacity.
type room struct {
	api.PeriodCapacity
	way api.CapacityWay
}

func capacityCommand() *cli.Command {
	return &cli.Command{
		Name:      "capacity",
		Usage:     "show when each pool will be full, and what more or larger drives would change",
		ArgsUsage: "[pool]",
		Description: "Example: lantern capacity\n         lantern capacity soundscape --size 16TB\n\n" +
			"FULL BETWEEN is if it goes on growing as fast, or as slowly, as it did (quartiles of its growth over up to 180\n" +
			"days). What a way adds is reckoned from the sizes of members and their protection; a pool system may keep back\n" +
			"more. Whether it can be ordered to take them is another question: lantern pool shows what can be asked of it.\n" +
			"Larger drives are put in by lantern campaign plan.",
		Flags: append([]cli.Flag{
			&cli.StringFlag{
				Name:        "size",
				Usage:       "size of the larger drives, such as 16TB",
				DefaultText: "twice the largest of the pool",
			},
		}, tableFlags()...),
		Action: listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
			p := api.ListCapacityParams{Pool: cmd.Args().First()}
			if cmd.Args().Len() > 1 {
				return usage("name one pool, or none for all\nExample: %s", example(cmd))
			}
			if size := cmd.String("size"); size != "" {
				n, err := ParseSize(size)
				if err != nil || n > 1<<60 || n < 1 {
					return usage("--size takes a size such as 16TB, not %q", size)
				}
				p.DriveBytes = n
			}
			all, err := ask[[]api.PeriodCapacity](s.client.ListCapacity(ctx, &p))
			if err != nil {
				return err
			}
			if s.out.format == "json" {
				_, err := s.out.value(all)
				return err
			}
			var rows []room
			for _, c := range all {
				rows = append(rows, room{PeriodCapacity: c})
				for _, w := range c.Ways {
					rows = append(rows, room{c, w})
				}
			}
			return list(s, rows, "No pool was reported yet. Agents report those of their hosts: lantern host list",
				[]column{
					col("pool"), col("way").fold(24), col("drives").more(), col("drive_bytes").more(), col("adds_bytes").as("ADDS"),
					col("capacity_bytes").as("HOLDS"), col("used_percent").as("FULL"),
					col("growth_bytes_per_day").as("A DAY").spare(1), col("full").as("FULL BETWEEN").fold(10), col("soonest").more(),
					col("likely").more(), col("latest").more(), col("seen_at").more(),
				}, roomCells)
		}),
	}
}

func roomCells(r room) []cell {
	w := r.way
	full := cell{text: "unknown", right: true}
	if !r.UsedUnknown && r.CapacityBytes > 0 {
		full = percentCell(float64(r.UsedBytes) / float64(r.CapacityBytes+w.AddsBytes))
	}
	if w.Kind != "" {
		driveBytes := cell{}
		if w.DriveBytes > 0 {
			driveBytes = bytesCell(w.DriveBytes)
		}
		return []cell{
			{text: r.Pool}, {text: w.Says}, countCell(w.Drives), driveBytes, bytesCell(w.AddsBytes),
			bytesCell(r.CapacityBytes + w.AddsBytes), full, {}, {text: fullBetween(r.Days, w.Soonest, w.Latest)},
			timeCell(w.Soonest, minutes), timeCell(w.Likely, minutes), timeCell(w.Latest, minutes), timeCell(r.SeenAt, minutes),
		}
	}
	says := "as it is"
	if r.Stale {
		says = "as last reported " + r.SeenAt.Local().Format(minutes)
	}
	if !r.WaysKnown {
		says += "; what more drives would give is not known"
	}
	grows := cell{}
	if r.Days > 0 {
		grows = bytesCell(int64(r.GrowthBytesPerDay))
	}
	return []cell{
		{text: r.Pool, style: bold}, {text: says}, {}, {}, {}, bytesCell(r.CapacityBytes), full, grows,
		{text: fullBetween(r.Days, r.Soonest, r.Latest)}, timeCell(r.Soonest, minutes), timeCell(r.Likely, minutes),
		timeCell(r.Latest, minutes), timeCell(r.SeenAt, minutes),
	}
}

// fullBetween gives the range of dates at which a pool is full, from a number of days with data.
func fullBetween(days int, soonest, latest time.Time) string {
	switch month := "2006-01"; {
	case days == 0:
		return "not known yet"
	case soonest.IsZero():
		return "not foreseen"
	case latest.IsZero():
		return soonest.Local().Format(month) + " or later"
	case soonest.Local().Format(month) == latest.Local().Format(month):
		return soonest.Local().Format(month)
	default:
		return soonest.Local().Format(month) + " and " + latest.Local().Format(month)
	}
}

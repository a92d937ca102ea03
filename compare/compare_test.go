// Package compare measures what a year of readings takes in other forms, on the same data. It is a module of its own,
// so that the product does not carry what only the comparison needs.
package compare

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/libtnb/sqlite"
	"github.com/prometheus/prometheus/tsdb/chunkenc"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"lantern/internal/year"
)

// samplesAChunk is how many samples that storage itself puts into one chunk.
const samplesAChunk = 120

// column is one metric of one drive.
type column struct {
	drive, metric int
	at            []int64
	values        []float64
}

// BenchmarkForms lets a demo host live through a year and prints bytes a reading: ours, with all tables, indexes and
// free pages; XOR chunks, their payload alone; and one row per number in SQLite, with the index that finds them.
func BenchmarkForms(b *testing.B) {
	for b.Loop() {
		dir := b.TempDir()
		var columns []*column
		numbers := map[string]int{}
		number := func(name string) int {
			if _, ok := numbers[name]; !ok {
				numbers[name] = len(numbers)
			}
			return numbers[name]
		}
		of := map[[2]int]*column{}
		readings := 0
		y, err := year.Live(b.Context(), dir, "petrel", func(drive string, at time.Time, metrics map[string]float64) {
			readings++
			for name, v := range metrics {
				k := [2]int{number(drive), number(name)}
				c := of[k]
				if c == nil {
					c = &column{drive: k[0], metric: k[1]}
					of[k], columns = c, append(columns, c)
				}
				c.at, c.values = append(c.at, at.UnixMilli()), append(c.values, v)
			}
		})
		require.NoError(b, err)
		require.NoError(b, y.Store.Close())
		ours := float64(y.Bytes) / float64(readings)

		chunks := 0
		for _, c := range columns {
			for i := 0; i < len(c.at); i += samplesAChunk {
				chunk := chunkenc.NewXORChunk()
				app, err := chunk.Appender()
				require.NoError(b, err)
				for j := i; j < min(i+samplesAChunk, len(c.at)); j++ {
					app.Append(0, c.at[j], c.values[j])
				}
				chunks += len(chunk.Bytes())
			}
		}
		rows := float64(rowSize(b, filepath.Join(dir, "rows.db"), columns)) / float64(readings)
		xor := float64(chunks) / float64(readings)
		b.ReportMetric(ours, "ours-bytes/reading")
		b.ReportMetric(xor, "xor-bytes/reading")
		b.ReportMetric(rows, "rows-bytes/reading")
		b.ReportMetric(xor/ours, "xor/ours")
		b.ReportMetric(rows/ours, "rows/ours")
	}
}

// rowSize writes one row per number and gives the size of the database.
func rowSize(b *testing.B, file string, columns []*column) (size int64) {
	db, err := gorm.Open(
		sqlite.Open("file:"+file+"?_pragma=journal_mode(OFF)&_pragma=synchronous(OFF)"),
		&gorm.Config{Logger: logger.Discard, SkipDefaultTransaction: true},
	)
	require.NoError(b, err)
	require.NoError(
		b,
		db.Exec(
			"create table numbers (drive integer, metric integer, at integer, value real, primary key (drive, "+
				"metric, at)) without rowid",
		).Error,
	)
	const together = 500
	require.NoError(b, db.Transaction(func(tx *gorm.DB) error {
		for _, c := range columns {
			for i := 0; i < len(c.at); i += together {
				var sql strings.Builder
				var args []any
				sql.WriteString("insert into numbers values ")
				for j := i; j < min(i+together, len(c.at)); j++ {
					if j > i {
						sql.WriteString(",")
					}
					fmt.Fprint(&sql, "(?,?,?,?)")
					args = append(args, c.drive, c.metric, c.at[j], c.values[j])
				}
				if err := tx.Exec(sql.String(), args...).Error; err != nil {
					return err
				}
			}
		}
		return nil
	}))
	var pages, page int64
	require.NoError(b, db.Raw("pragma page_count").Scan(&pages).Error)
	require.NoError(b, db.Raw("pragma page_size").Scan(&page).Error)
	return pages * page
}

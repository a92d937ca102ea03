package compare

import (
	"path/filepath"
	"testing"

	"github.com/libtnb/sqlite"
	"github.com/ncruces/go-sqlite3/gormlite"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// row is as large as a reading.
type row struct {
	Drive  string `gorm:"primaryKey"`
	At     int64  `gorm:"primaryKey"`
	Packed []byte
}

// BenchmarkDrivers compares the driver in use with the other that needs no C compiler: reports of 60 readings written
// one transaction each, on disk before it ends; and the newest readings of a drive read.
func BenchmarkDrivers(b *testing.B) {
	const pragmas = "_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=cache_size(-65536)" +
		"&_pragma=busy_timeout(5000)"
	for name, open := range map[string]func(file string) gorm.Dialector{
		"in use":   func(file string) gorm.Dialector { return sqlite.Open("file:" + file + "?" + pragmas) },
		"gormlite": func(file string) gorm.Dialector { return gormlite.Open("file:" + file + "?" + pragmas) },
	} {
		db, err := gorm.Open(open(filepath.Join(b.TempDir(), "x.db")), &gorm.Config{SkipDefaultTransaction: true,
			PrepareStmt: true, Logger: logger.Discard})
		require.NoError(b, err)
		raw, err := db.DB()
		require.NoError(b, err)
		raw.SetMaxOpenConns(1)
		require.NoError(b, db.AutoMigrate(&row{}))
		at := int64(0)
		b.Run(name+"/write", func(b *testing.B) {
			rows := make([]row, 60)
			for b.Loop() {
				at++
				for i := range rows {
					rows[i] = row{Drive: string(rune('a' + i)), At: at, Packed: make([]byte, 120)}
				}
				require.NoError(b, db.Transaction(func(tx *gorm.DB) error { return tx.Create(&rows).Error }))
			}
		})
		b.Run(name+"/read", func(b *testing.B) {
			for b.Loop() {
				var rows []row
				require.NoError(b, db.Where("drive = ?", "b").Order("at desc").Limit(80).Find(&rows).Error)
				require.NotEmpty(b, rows)
			}
		})
		require.NoError(b, raw.Close())
	}
}

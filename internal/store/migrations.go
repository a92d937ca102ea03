package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"gorm.io/gorm"
)

// kinds are all kinds of records.
var kinds = []any{
	&Host{},
	&Token{},
	&Session{},
	&SignInCode{},
	&ReportID{},
	&Drive{},
	&Standing{},
	&FoundLog{},
	&TestRun{},
	&Plan{},
	&PlannedTest{},
	&Layout{},
	&Spot{},
	&Survey{},
	&Feed{},
	&Setting{},
	&OwnRule{},
	&Notice{},
	&PoolUse{},
	&PriorityHours{},
	&Channel{},
	&Delivery{},
	&Reading{},
	&Block{},
	&BadPage{},
	&SwapEvent{},
	&Acceptance{},
	&AcceptPolicy{},
	&Campaign{},
	&Order{},
	&Light{},
	&Recovery{},
	&Sample{},
	&Event{},
	&Answer{},
	&AuditEntry{},
	&Inventory{},
	&Invitation{},
	&Asking{},
	&Authority{},
	&PoolName{},
	&SwapLook{},
	&DriveRecord{},
	&Site{},
	&HostSecret{},
	&Migration{},
}

// Migration is a change of the schema that was made.
type Migration struct {
	Number int `gorm:"primaryKey;autoIncrement:false"`
	About  string
	At     time.Time
	By     string // the version that made it
}

// migrations are all changes of the schema, in order. A released one is never changed: the next is added at the end.
var migrations = []struct {
	about string
	do    func(tx *gorm.DB) error
}{
	1:  {"the tables of all records", func(tx *gorm.DB) error { return tx.AutoMigrate(kinds...) }},
	2:  {"names that hosts had before", func(tx *gorm.DB) error { return tx.AutoMigrate(&Host{}) }},
	3:  {"invitations, and hosts that ask", func(tx *gorm.DB) error { return tx.AutoMigrate(&Invitation{}, &Asking{}) }},
	4:  {"the inventory of drives", func(tx *gorm.DB) error { return tx.AutoMigrate(&Inventory{}) }},
	5:  {"certificates of agents", func(tx *gorm.DB) error { return tx.AutoMigrate(&Host{}, &Authority{}) }},
	6:  {"where a swap stood after each event", func(tx *gorm.DB) error { return tx.AutoMigrate(&SwapEvent{}) }},
	7:  {"names that people gave pools", func(tx *gorm.DB) error { return tx.AutoMigrate(&PoolName{}) }},
	8:  {"what a host reports beside its drives", func(tx *gorm.DB) error { return tx.AutoMigrate(&Host{}) }},
	9:  {"the newest looks of swaps", func(tx *gorm.DB) error { return tx.AutoMigrate(&SwapLook{}) }},
	10: {"management controllers of hosts", func(tx *gorm.DB) error { return tx.AutoMigrate(&Host{}, &HostSecret{}) }},
	11: {"records of drives, so that a start is quick", func(tx *gorm.DB) error { return tx.AutoMigrate(&DriveRecord{}) }},
	12: {"sites of a headquarters", func(tx *gorm.DB) error { return tx.AutoMigrate(&Site{}) }},
}

// Form is the number of the newest schema that this version knows.
func Form() int { return len(migrations) - 1 }

// Version is recorded as the version that made a change of the schema.
var Version = "dev"

// ErrNewer means that a newer version has changed the schema, so this one must not use the database.
var ErrNewer = errors.New("a newer version of lantern has changed these records, and this one would damage them")

// formOf is the number of an open database's schema: 0 if it is empty, or from before schemas had numbers.
func formOf(db *gorm.DB) (n int, err error) {
	if !db.Migrator().HasTable(&Migration{}) {
		return 0, nil
	}
	err = db.Model(&Migration{}).Select("coalesce(max(number), 0)").Scan(&n).Error
	if err == nil && n > Form() {
		err = fmt.Errorf(
			"%w: their form is %d, this version knows those up to %d. Use the newer version, or restore a backup of before",
			ErrNewer,
			n,
			Form(),
		)
	}
	return n, err
}

// migrate updates a database to the newest schema, one change at a time, each completely or not at all.
func migrate(db *gorm.DB) error {
	n, err := formOf(db)
	if err != nil {
		return err
	}
	for number := n + 1; number <= Form(); number++ {
		m := migrations[number]
		err := db.Transaction(func(tx *gorm.DB) error {
			if err := m.do(tx); err != nil {
				return err
			}
			return tx.Create(&Migration{Number: number, About: m.about, At: time.Now().UTC(), By: Version}).Error
		})
		if err != nil {
			return fmt.Errorf("change %d (%s): %w", number, m.about, err)
		}
	}
	return nil
}

// MigrationPlan has the changes that opening a database with this version would make to its schema.
type MigrationPlan struct {
	From, To int
	Changes  []string
	Took     time.Duration // measured on a copy
}

// PlanMigration tries the changes on a copy; the database itself is only read.
func PlanMigration(file string) (p MigrationPlan, err error) {
	dir, err := os.MkdirTemp("", "lantern-migrate")
	if err != nil {
		return p, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	at := filepath.Join(dir, "lantern.db")
	if _, err := Backup(file, at); err != nil {
		return p, err
	}
	raw, err := readOnly(at)
	if err != nil {
		return p, err
	}
	row := raw.QueryRow("SELECT coalesce(max(number), 0) FROM migrations")
	if err := row.Scan(&p.From); err != nil {
		p.From = 0 // schemas had no numbers yet
	}
	if err := raw.Close(); err != nil {
		return p, err
	}
	p.To = Form()
	begun := time.Now()
	s, err := Open(at)
	if err != nil {
		return p, err
	}
	p.Took = time.Since(begun)
	for number := p.From + 1; number <= p.To; number++ {
		p.Changes = append(p.Changes, fmt.Sprintf("%d: %s", number, migrations[number].about))
	}
	return p, s.Close()
}

package store

import "time"

// Host is an enrolled machine.
type Host struct {
	Name      string `gorm:"primaryKey"`
	TokenHash []byte
	Enrolled  time.Time
	SeenAt    time.Time // time of its newest live report; zero before the first
	Interval  float64   // seconds until the next is due
	Report    []byte    // that report, as JSON
	Room      string    // its room
	Cold      bool      // its drives are changed only while it is down
	// Boot and BootSeconds are those of its newest live report: they order the reports of one run of the host. Boots
	// are those of earlier runs, the newest last, separated by commas.
	Boot        string
	BootSeconds float64
	Boots       string
	Shift       time.Duration // correction of the times in its reports; 0 while its clock is right
	Formerly    string        // its earlier names, separated by commas
	// Beside is what its newest report told beside what is there: its agent, its clock, how busy drives are, as JSON.
	Beside []byte
	// Certificates are those that its agent was given, as JSON; nothing where it never asked for one.
	Certificates []byte
	// Controller is how its management controller is reached, as JSON, without the password; nothing where it has none.
	Controller []byte
}

// HostSecret is the password of a host's management controller.
type HostSecret struct {
	Host     string `gorm:"primaryKey"`
	Password string
}

// Authority is what signs the certificates of agents: its key (PKCS 8) and its own certificate, DER.
type Authority struct {
	ID        string `gorm:"primaryKey"`
	Key, Cert []byte
}

// Token lets a person or a program in.
type Token struct {
	Name string `gorm:"primaryKey"`
	Hash []byte
	Made time.Time
	By   string // who added them; empty for the first
	Role string // empty in records of before there were roles: those might do everything
	// Hosts and Pools are what they may act on, as JSON lists; empty for everything. Ends is when the token ends; zero
	// for never.
	Hosts, Pools []byte
	Ends         time.Time
}

// Session is a console that signed in. Its times are real, not the lab's.
type Session struct {
	Hash    []byte `gorm:"primaryKey"`
	Name    string
	Expires time.Time
	ID      string // by which it is listed and ended
	Made    time.Time
	SeenAt  time.Time
	Address string // it was opened from
	Program string // what the browser says it is
}

// SignInCode is a link that signs in once.
type SignInCode struct {
	Hash    []byte `gorm:"primaryKey"`
	Name    string
	Expires time.Time
}

// ReportID is a report that was taken.
type ReportID struct {
	ID   string `gorm:"primaryKey"`
	Host string
	At   time.Time
}

// Drive holds the newest facts of a drive, as JSON.
type Drive struct {
	Key string `gorm:"primaryKey"`
	Doc []byte
}

// Standing holds the findings that stand against a drive, as JSON.
type Standing struct {
	Drive string `gorm:"primaryKey"`
	Doc   []byte
}

// TestRun is a self-test that was ordered, as JSON.
type TestRun struct {
	ID    string `gorm:"primaryKey"`
	Drive string `gorm:"index"`
	Ended bool   `gorm:"index"`
	Doc   []byte
}

// Plan says when which drives test themselves, as JSON.
type Plan struct {
	Name string `gorm:"primaryKey"`
	Doc  []byte
}

// PlannedTest is one test that one drive is to run in one period, or ran, as JSON.
type PlannedTest struct {
	Drive string `gorm:"primaryKey"`
	Kind  string `gorm:"primaryKey"`
	From  int64  `gorm:"primaryKey"` // when its period begins, in Unix seconds
	Doc   []byte
}

// Layout is how an enclosure looks that does not tell of itself, as JSON.
type Layout struct {
	Host string `gorm:"primaryKey"`
	Name string `gorm:"primaryKey"`
	Doc  []byte
}

// Spot is what a person found out of a bay, as JSON.
type Spot struct {
	Host    string `gorm:"primaryKey"`
	Section string `gorm:"primaryKey"`
	Number  int    `gorm:"primaryKey;autoIncrement:false"`
	Doc     []byte
}

// Survey is a survey of a host that has not ended, as JSON.
type Survey struct {
	Host string `gorm:"primaryKey"`
	Doc  []byte
}

// Feed is an address under which the calendar can be read: the hash of what is secret in it.
type Feed struct {
	Hash []byte `gorm:"primaryKey"`
	By   string
	Made time.Time
}

// FoundLog is what became of a finding, with its words and evidence as they were then, so that it can be judged when
// its rule has changed.
type FoundLog struct {
	ID    int64  `gorm:"primaryKey;autoIncrement"`
	Drive string `gorm:"index"`
	At    time.Time
	Rule  string
	Turn  string // raised, became and the verdict, or cleared
	Doc   []byte // the finding, as JSON
}

// PoolName is the name that people gave a pool, in place of the one that its host reports.
type PoolName struct {
	ID       string `gorm:"primaryKey"`
	Name     string
	Formerly string // names that people gave it before, a line each
}

// Setting is a threshold that somebody set, or a rule that somebody switched off.
type Setting struct {
	Model string `gorm:"primaryKey"` // empty: all models
	Pool  string `gorm:"primaryKey"` // empty: all pools
	Name  string `gorm:"primaryKey"`
	Value float64
}

// OwnRule is a rule that somebody wrote, as JSON.
type OwnRule struct {
	ID  string `gorm:"primaryKey"`
	Doc []byte
}

// Notice is a notice, as JSON.
type Notice struct {
	ID     string `gorm:"primaryKey"`
	Closed bool   `gorm:"index"`
	At     time.Time
	Doc    []byte
}

// PoolUse is how full a pool was.
type PoolUse struct {
	Pool string `gorm:"primaryKey"`
	At   int64  `gorm:"primaryKey"` // Unix milliseconds
	Used int64  // bytes
}

// PriorityHours are the hours in which a pool's recoveries have another priority, as JSON.
type PriorityHours struct {
	Pool string `gorm:"primaryKey"`
	Doc  []byte
}

// Channel is where notices are sent, as JSON; its secret is in it.
type Channel struct {
	Name string `gorm:"primaryKey"`
	Doc  []byte
}

// Delivery is a message that is to be sent, or was.
type Delivery struct {
	ID      string `gorm:"primaryKey"`
	Channel string
	Notice  string
	Made    int64 // Unix milliseconds, as is Next
	Next    int64 // when it is tried
	Tries   int
	Done    bool `gorm:"index"`
	Error   string
	Doc     []byte
}

// Reading is one packed reading.
type Reading struct {
	Drive  string `gorm:"primaryKey"`
	At     int64  `gorm:"primaryKey"` // Unix milliseconds
	Packed []byte
}

// Block is many readings of one drive, folded into one.
type Block struct {
	Drive string `gorm:"primaryKey"`
	First int64  `gorm:"primaryKey"` // Unix milliseconds
	Last  int64
	Count int
	Data  []byte
}

// Site is a site that a headquarters lets in.
type Site struct {
	Name    string `gorm:"primaryKey"`
	Hash    []byte // of its secret
	Invited time.Time
	By      string
}

// DriveRecord is what is held ready of a drive's readings (history.EncodeRecord), so that a start need not read them
// all. It can be made again from the readings at any time. While it is there, whatever has come of the drive up to Upto
// is in it.
type DriveRecord struct {
	Drive string `gorm:"primaryKey"`
	Upto  int64  // Unix milliseconds
	Data  []byte
}

// BadPage is a page that could not be believed, kept for study.
type BadPage struct {
	ID    uint `gorm:"primaryKey"`
	Drive string
	At    time.Time
	Kind  string
	Why   string
	Bytes []byte
}

// SwapEvent is one event of a swap, as JSON. A swap's state is what its events lead to.
type SwapEvent struct {
	Swap string `gorm:"primaryKey"`
	Seq  int    `gorm:"primaryKey;autoIncrement:false"` // from 1, without gaps
	At   time.Time
	Doc  []byte
	// After is where the swap stood after it, in a word of the swap's; empty in records of before that was noted.
	After string
}

// SwapLook is what the newest look of a swap found, as JSON. Its events hold a look only where its results changed.
type SwapLook struct {
	Swap string `gorm:"primaryKey"`
	Seq  int    // of the event that it follows
	Doc  []byte
}

// Acceptance is the test of a new drive, as JSON; Campaign an ordered set of swaps.
type Acceptance struct {
	ID  string `gorm:"primaryKey"`
	Doc []byte
}

// AcceptPolicy is what new drives are tested for if nobody says otherwise; the newest one holds, the others are kept.
type AcceptPolicy struct {
	ID  string `gorm:"primaryKey"`
	Doc []byte
}

// Campaign is an ordered set of swaps, as JSON.
type Campaign struct {
	ID  string `gorm:"primaryKey"`
	Doc []byte
}

// Order is a thing an agent was asked to do, as JSON, with what came of it.
type Order struct {
	ID    string `gorm:"primaryKey"`
	Host  string
	State string `gorm:"index"`
	Swap  string
	Nth   int // the swap's own number of it
	Light string
	Doc   []byte
}

// Light is a bay light that was ordered, as JSON.
type Light struct {
	ID    string `gorm:"primaryKey"`
	Ended bool   `gorm:"index"`
	Doc   []byte
}

// Recovery is the newest report of a recovery, as JSON.
type Recovery struct {
	ID      string `gorm:"primaryKey"`
	Pool    string `gorm:"index"`
	Started time.Time
	Doc     []byte
}

// Sample is one moment of a recovery's course.
type Sample struct {
	Recovery string `gorm:"primaryKey"`
	At       int64  `gorm:"primaryKey"` // Unix milliseconds
	Done     int64
	Todo     int64
}

// Event is one line of what happened, for people and for live views.
type Event struct {
	ID      int64 `gorm:"primaryKey;autoIncrement"`
	Kind    string
	At      time.Time
	Subject string `gorm:"index"`
	Says    string
}

// Answer is what a request with an idempotency key was answered, to be answered again.
type Answer struct {
	Key    string `gorm:"primaryKey"` // who, path and key
	Asked  []byte // hash of the request's body
	Status int
	Body   []byte
	At     time.Time
}

// AuditEntry is one change that a person, a host or the service itself made. Entries are only ever added; Hash is over
// the entry and the hash of the one before.
type AuditEntry struct {
	Number   int64 `gorm:"primaryKey;autoIncrement:false"`
	At       time.Time
	Who      string
	Role     string
	Address  string
	Action   string
	Target   string
	Result   string
	Before   string
	After    string
	Previous string
	Hash     string
}

// Inventory is what people know of a drive beyond what it tells, as JSON.
type Inventory struct {
	Serial string `gorm:"primaryKey"` // in capitals
	Doc    []byte
}

// Invitation lets hosts ask to be enrolled, with a code of which the hash is kept. Its times are real, not the lab's.
type Invitation struct {
	ID          string `gorm:"primaryKey"`
	Hash        []byte
	Count, Used int
	Pattern     string // of names that need no approval; empty for none
	By          string
	Made, Ends  time.Time
}

// Asking is a host that waits for approval, with the hash of the token that it made for itself.
type Asking struct {
	Name       string `gorm:"primaryKey"`
	Hash       []byte
	From       string // address
	At         time.Time
	Invitation string
}

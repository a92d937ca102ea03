package practice

// Mishap is what goes wrong for practice, once, at a moment that nobody chose.
type Mishap string

// The mishaps. Those of members come while one of them is filled; those of new drives with the next from the shelf.
const (
	SecondFailure Mishap = "second-failure"
	IllPeer       Mishap = "ill-peer"
	PowerCut      Mishap = "power-cut"
	Stuck         Mishap = "stuck"
	SmallDrive    Mishap = "small-drive"
	TakenDrive    Mishap = "taken-drive"
	WeakDrive     Mishap = "weak-drive"
	Surprise      Mishap = "surprise"
)

// Mishaps are all of them, each with what happens; a surprise comes last.
var Mishaps = []struct {
	Name Mishap
	Says string
}{
	{SecondFailure, "another member of the group leaves when a third is filled"},
	{IllPeer, "sectors become pending on another member when a quarter is filled"},
	{PowerCut, "the host has no power for a quarter of an hour when half is filled"},
	{Stuck, "the pool does not begin to recover until it is nudged"},
	{SmallDrive, "the next drive from the shelf is some megabytes too small"},
	{TakenDrive, "the next drive from the shelf holds somebody's file system"},
	{WeakDrive, "the next drive from the shelf does not keep all that is written to it"},
	{Surprise, "one of these, and nobody says which"},
}

// Known reports whether there is such a mishap.
func (m Mishap) Known() bool {
	for _, x := range Mishaps {
		if x.Name == m {
			return true
		}
	}
	return false
}

// List describes all mishaps, one line each.
func List() (out string) {
	for _, x := range Mishaps {
		out += "  " + string(x.Name) + ": " + x.Says + "\n"
	}
	return out
}

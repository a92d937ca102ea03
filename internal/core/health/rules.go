package health

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"lantern/internal/core/drive"
)

const day = 24 * time.Hour

// Rule is one reason for a finding.
type Rule struct {
	ID       string         `json:"id"`
	Title    string         `json:"title"`
	Level    Verdict        `json:"level"` // the gravest it leads to
	Strength drive.Strength `json:"strength"`
	For      string         `json:"for"` // protocols and media it applies to
	When     string         `json:"when"`
	Why      string         `json:"why"`
	Do       string         `json:"do"`
	// Hold is how long a finding stays open after its rule held for the last time.
	Hold time.Duration `json:"hold"`
	// ofSiblings is true when it depends only on the drive's siblings.
	ofSiblings bool
	holds      func(*Subject, *Thresholds) *Hit
	words      func(Hit) (says, do string, evidence []Evidence)
}

// rules are evaluated one by one, independently of each other.
var rules []Rule

var ruleByID = map[string]*Rule{}

func init() {
	rules = append(rules, stateRules...)
	rules = append(rules, countRules()...)
	rules = append(rules, serviceRules...)
	rules = append(rules, placeRules...)
	rules = append(rules, knowingRules...)
	for i := range rules {
		ruleByID[rules[i].ID] = &rules[i]
	}
}

// TitleOf is the title of a rule; its id where there is none.
func TitleOf(id string) string {
	if r := ruleOf(id); r != nil {
		return r.Title
	}
	return id
}

func ruleOf(id string) *Rule { return ruleByID[id] }

// Rules lists the rules in the order in which they are evaluated.
func Rules() []Rule { return append([]Rule(nil), rules...) }

// all is the scope of a rule for every kind of drive.
const all = "all drives"

func amount(v float64, unit string) string {
	if v == 1 && strings.HasSuffix(unit, "s") && len(unit) > 2 {
		unit = strings.TrimSuffix(unit, "s")
	}
	return number(v) + " " + unit
}

func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

// Seconds writes a duration given in seconds with a suitable unit.
func Seconds(v float64) string {
	if v < 1 {
		return fmt.Sprintf("%.3g ms", v*1000)
	}
	return fmt.Sprintf("%.3g s", v)
}

// span writes a duration as people say it.
func span(d time.Duration) string {
	if d >= 2*day {
		return strconv.Itoa(int(d/day)) + " days"
	}
	return strconv.Itoa(int(d/time.Hour)) + " h"
}

package judging

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/ownrule"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

type ownRule struct {
	ownrule.Rule
	program *ownrule.Program
}

// off is the stored value of a rule that is switched off.
const off = "off:"

func (s *State) loadRules() (err error) {
	if s.settings, err = store.All[store.Setting](s.Store, "model, pool, name", ""); err != nil {
		return err
	}
	s.limits, s.own = map[[2]string]*health.Thresholds{}, nil
	s.ownVersion++
	rows, err := store.All[store.OwnRule](s.Store, "id", "")
	if err != nil {
		return err
	}
	for _, row := range rows {
		var r ownRule
		if err := json.Unmarshal(row.Doc, &r.Rule); err != nil {
			return fmt.Errorf("rule %s: %w", row.ID, err)
		}
		if r.program, err = ownrule.Compile(r.Expression); err != nil {
			s.Log.Error("a rule is left out", "rule", row.ID, "error", err)
			continue
		}
		s.own = append(s.own, r)
	}
	return nil
}

// limitsOf are the thresholds for a drive: those set for all drives, overridden by its model, overridden by its pool.
func (s *State) limitsOf(d *fleet.Drive, at fleet.Place) *health.Thresholds {
	k := [2]string{d.Desc.Model, ""}
	if at.Pool != nil {
		k[1] = at.Pool.Name
	}
	if t := s.limits[k]; t != nil {
		return t
	}
	t := health.Usual()
	for _, scope := range []func(store.Setting) bool{
		func(x store.Setting) bool { return x.Model == "" && x.Pool == "" },
		func(x store.Setting) bool { return x.Model == k[0] && x.Pool == "" },
		func(x store.Setting) bool {
			return x.Pool == k[1] && x.Pool != "" && (x.Model == "" || x.Model == k[0])
		},
	} {
		for _, x := range s.settings {
			if !scope(x) {
				continue
			}
			if id, is := strings.CutPrefix(x.Name, off); is {
				t.Off(id)
			} else if err := t.Set(x.Name, x.Value); err != nil {
				s.Log.Error("a threshold is left out", "name", x.Name, "error", err)
			}
		}
	}
	s.limits[k] = &t
	return &t
}

// lifted reports whether a person switched off or removed a rule: then its findings are cleared at once.
func (s *State) lifted(rule string, t *health.Thresholds) bool {
	if id, own := strings.CutPrefix(rule, health.Own); own {
		return !slices.ContainsFunc(s.own, func(r ownRule) bool { return r.ID == id })
	}
	return t.IsOff(rule)
}

// ownHits are those of people's own rules that hold for a drive.
func (s *State) ownHits(d *fleet.Drive, at fleet.Place) (out []health.Hit) {
	for _, r := range s.own {
		holds, err := r.program.Holds(d.Record, d.SeenAt, ownFacts(d, at))
		if err != nil {
			s.Log.Debug("a rule cannot be worked out", "rule", r.ID, "drive", d.Key(), "error", err)
		}
		if holds {
			out = append(out, r.Hit(r.program, d.Record, d.SeenAt))
		}
	}
	return out
}

func ownFacts(d *fleet.Drive, at fleet.Place) ownrule.Facts {
	f := ownrule.Facts{Model: d.Desc.Model, Medium: string(d.Desc.Medium), Host: d.Host}
	if at.Pool != nil {
		f.Pool = at.Pool.Name
	}
	return f
}

// Rules lists all rules and thresholds.
func (s *Service) Rules() api.Rules {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.viewRules()
}

func (s *State) viewRules() api.Rules {
	holds, gravest := map[string]int{}, map[string]health.Verdict{}
	s.Judge()
	for _, d := range s.fleet.Drives {
		for _, x := range d.Standing {
			if holds[x.Rule]++; x.Verdict.Gravity() > gravest[x.Rule].Gravity() {
				gravest[x.Rule] = x.Verdict
			}
		}
	}
	out := api.Rules{Rules: []api.Rule{}, Own: []api.OwnRule{}, Thresholds: []api.Threshold{}}
	for _, r := range health.Rules() {
		on := !slices.ContainsFunc(
			s.settings,
			func(x store.Setting) bool { return x.Name == off+r.ID && x.Model == "" && x.Pool == "" },
		)
		out.Rules = append(
			out.Rules,
			api.Rule{
				Id:          r.ID,
				Title:       r.Title,
				Level:       api.Verdict(r.Level),
				Strength:    string(r.Strength),
				For:         r.For,
				When:        r.When,
				Why:         r.Why,
				Do:          r.Do,
				HoldSeconds: r.Hold.Seconds(),
				On:          on,
				HoldsFor:    holds[r.ID],
				HoldsAs:     api.Verdict(gravest[r.ID]),
			},
		)
	}
	for _, r := range s.own {
		out.Own = append(
			out.Own,
			api.OwnRule{
				Id:         r.ID,
				Says:       r.Says,
				Do:         r.Do,
				Expression: r.Expression,
				Verdict:    api.Verdict(r.Verdict),
				By:         r.By,
				Made:       r.Made,
				HoldsFor:   holds[health.Own+r.ID],
			},
		)
	}
	for _, t := range health.Settings {
		v := api.Threshold{
			Name:  t.Name,
			Unit:  t.Unit,
			Usual: t.Usual,
			Value: t.Usual,
			Least: t.Least,
			Most:  t.Most,
			Means: t.Means,
		}
		for _, x := range s.settings {
			switch {
			case x.Name != t.Name:
			case x.Model == "" && x.Pool == "":
				v.Value = x.Value
			default:
				v.Others = append(v.Others, api.ThresholdOf{Model: x.Model, Pool: x.Pool, Value: x.Value})
			}
		}
		out.Thresholds = append(out.Thresholds, v)
	}
	return out
}

// SetThreshold sets a threshold, for all drives, a model or a pool.
func (s *Service) SetThreshold(by string, req api.ThresholdSet) (api.Rules, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	t := health.Usual()
	if _, err := health.SettingByName(req.Name); err != nil {
		return api.Rules{}, problem.New(422, "no-setting", "List them with: lantern rule settings", "%s.", err)
	}
	if req.Pool != "" {
		if _, err := s.fleet.FindPool(req.Pool); err != nil {
			return api.Rules{}, err
		}
	}
	row := &store.Setting{Model: req.Model, Pool: req.Pool, Name: req.Name, Value: req.Value}
	if !req.Usual {
		if err := t.Set(req.Name, req.Value); err != nil {
			return api.Rules{}, problem.New(
				422,
				"bad-setting",
				"Choose a value within its bounds.",
				"The threshold is unchanged: %s.",
				err,
			)
		}
	}
	says := fmt.Sprintf("%s set %s to %g", by, req.Name, req.Value)
	if req.Usual {
		says = fmt.Sprintf("%s set %s to its default again", by, req.Name)
	}
	for _, of := range []string{req.Model, req.Pool} {
		if of != "" {
			says += " for " + of
		}
	}
	if err := s.keepSetting(row, req.Usual, says); err != nil {
		return api.Rules{}, err
	}
	s.revise(req)
	again, b := maps.Clone(s.unwritten), &store.Batch{}
	if s.WriteStanding(b); len(again) > 0 {
		if err := s.Commit(b); err != nil {
			maps.Copy(s.unwritten, again) // written with the next report
			s.Log.Warn("findings were not written after a threshold was changed", "error", err)
		}
	}
	return s.viewRules(), nil
}

// setOn reports whether a setting of a threshold applies to a drive.
func setOn(req api.ThresholdSet, d *fleet.Drive, at fleet.Place) bool {
	return (req.Model == "" || req.Model == d.Desc.Model) &&
		(req.Pool == "" || at.Pool != nil && at.Pool.Name == req.Pool)
}

// revise changes findings to what they would be if a threshold had always had its present value.
func (s *State) revise(req api.ThresholdSet) {
	now := s.Clock.Now()
	s.Judge() // with the new thresholds: their findings are already open
	j, peers := s.judged, peersOf(s.fleet)
	for key, d := range s.fleet.Drives {
		if at := j.places[key]; len(d.Standing) > 0 && setOn(req, d, at) {
			from := s.grounds(now, d, j, peers)
			sub := s.subject(d, at, from)
			s.stand(key, d, health.Revise(d.Standing, &sub, from.limits, req.Name, now))
		}
	}
	s.ownVersion++ // everything is computed again at the next judgement
	j.at = time.Time{}
}

// keepSetting stores or removes a setting, and judges again.
func (s *State) keepSetting(row *store.Setting, remove bool, says string) error {
	b := &store.Batch{}
	if remove {
		if _, err := store.Remove[store.Setting](
			s.Store,
			"model = ? and pool = ? and name = ?",
			row.Model,
			row.Pool,
			row.Name,
		); err != nil {
			return err
		}
	} else {
		b.Put(row)
	}
	s.AddEvent(b, api.EventKindRule, row.Name, says)
	if err := s.Commit(b); err != nil {
		return err
	}
	return s.loadRules()
}

// ruleID is the id of people's own rules.
var RuleID = regexp.MustCompile(`^[a-z][a-z0-9-]{1,39}$`)

// PutRule stores a person's own rule after trying it on the past, or switches a built-in rule on or off.
func (s *Service) PutRule(by, id string, req api.RulePut) (api.RuleTried, error) {
	if builtIn(id) {
		if req.Expression != "" {
			return api.RuleTried{}, problem.New(
				409,
				"built-in",
				"Choose another name for yours.",
				"%s is a built-in rule; it can be switched on and off, and its thresholds set.",
				id,
			)
		}
		return api.RuleTried{Flagged: []api.RuleFlag{}}, s.switchRule(by, id, req.On)
	}
	switch {
	case !RuleID.MatchString(id):
		return api.RuleTried{}, problem.New(
			422,
			"bad-name",
			"Such as warm-and-growing.",
			"The name of a rule has 2 to 40 lower-case letters, digits and hyphens; %q does not.",
			id,
		)
	case req.Verdict != api.Watch && req.Verdict != api.Replace:
		return api.RuleTried{}, problem.New(
			422,
			"bad-verdict",
			"Say watch or replace.",
			"A rule says watch or replace.",
		)
	case strings.TrimSpace(req.Says) == "":
		return api.RuleTried{}, problem.New(
			422,
			"no-words",
			`Such as --says "is warm and growing".`,
			"A rule needs words: what it means when it holds.",
		)
	}
	tried, err := s.TryRule(api.RuleTry{Expression: req.Expression, Hours: 90 * 24})
	if err != nil {
		return tried, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	r := ownrule.Rule{
		ID:         id,
		Says:       strings.TrimSpace(req.Says),
		Do:         cmp.Or(strings.TrimSpace(req.Do), "Look at it."),
		Expression: req.Expression,
		Verdict:    health.Verdict(req.Verdict),
		By:         by,
		Made:       s.Clock.Now(),
	}
	b := &store.Batch{}
	b.Put(&store.OwnRule{ID: id, Doc: ledger.Document(r)})
	s.AddEvent(b, api.EventKindRule, id, fmt.Sprintf("%s wrote the rule %s: %s", by, id, req.Expression))
	if err := s.Commit(b); err != nil {
		return tried, err
	}
	return tried, s.loadRules()
}

// switchRule switches a built-in rule on or off.
func (s *Service) switchRule(by, id string, on bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	says := fmt.Sprintf("%s switched the rule %s %s", by, id, map[bool]string{true: "on", false: "off"}[on])
	return s.keepSetting(&store.Setting{Name: off + id, Value: 1}, on, says)
}

func builtIn(id string) bool {
	return slices.ContainsFunc(health.Rules(), func(r health.Rule) bool { return r.ID == id })
}

// RemoveRule removes a person's own rule.
func (s *Service) RemoveRule(by, id string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	n, err := store.Remove[store.OwnRule](s.Store, "id = ?", id)
	if err != nil {
		return err
	}
	if n == 0 {
		if builtIn(id) {
			return problem.New(
				409,
				"built-in",
				"Switch it off instead: lantern rule off "+id,
				"%s is a built-in rule.",
				id,
			)
		}
		return problem.New(404, "no-rule", "List them with: lantern rule list", "No rule %q.", id)
	}
	b := &store.Batch{}
	s.AddEvent(b, api.EventKindRule, id, by+" removed the rule "+id)
	if err := s.Commit(b); err != nil {
		return err
	}
	return s.loadRules()
}

package bays

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"lantern/internal/core/enclosure"
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
	"lantern/internal/service/ledger"
	"lantern/internal/service/orders"
	"lantern/internal/store"
)

// State is the lights of bays, and the surveys in which people find out which bay is which. It has no lock of its own:
// its methods must be called with the lock of the service held.
type State struct {
	*ledger.Ledger
	fleet   *fleet.State
	judging *judging.State
	orders  *orders.State

	LightByID map[string]*Light            // those that have not ended
	surveys   map[string]*enclosure.Survey // by host
	// surveyFailed is the reason why the drive to find could not be lit.
	surveyFailed map[string]string
	strangers    map[string]time.Time // bays occupied by a device that does not answer, since when
}

// New makes an empty State.
func New(l *ledger.Ledger, fleetState *fleet.State, judgingState *judging.State, ordersState *orders.State) *State {
	return &State{
		Ledger:       l,
		fleet:        fleetState,
		judging:      judgingState,
		orders:       ordersState,
		surveyFailed: map[string]string{},
	}
}

// Service is for calls from other packages at any time: its methods take the lock.
type Service struct {
	*State
	mu *ledger.Lock
}

// NewService makes the Service of a State and its lock.
func NewService(s *State, mu *ledger.Lock) *Service { return &Service{s, mu} }

// Load makes the lights that have not ended and the surveys from what is in the store.
func (s *State) Load() error {
	return errors.Join(s.loadLights(), s.loadSurveys())
}

func (s *State) loadSurveys() error {
	s.surveys = map[string]*enclosure.Survey{}
	surveys, err := store.All[store.Survey](s.Store, "host", "")
	if err != nil {
		return err
	}
	for _, row := range surveys {
		w := &enclosure.Survey{}
		if err := json.Unmarshal(row.Doc, w); err != nil {
			return fmt.Errorf("survey of %s: %w", row.Host, err)
		}
		s.surveys[row.Host] = w
	}
	return nil
}

// loadLights makes the lights that have not ended from what is in the store.
func (s *State) loadLights() error {
	s.LightByID = map[string]*Light{}
	rows, err := store.All[store.Light](s.Store, "id", "ended = ?", false)
	if err != nil {
		return err
	}
	for _, row := range rows {
		if err := s.take(row); err != nil {
			return err
		}
	}
	return nil
}

func (s *State) take(row store.Light) error {
	l := &Light{}
	if err := json.Unmarshal(row.Doc, &l.Light); err != nil {
		return fmt.Errorf("light %s: %w", row.ID, err)
	}
	s.LightByID[row.ID] = l
	return nil
}

package enclosure

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// How the bay of a drive is known.
type How string

// Reported by its enclosure; confirmed by a person who saw it; guessed from the port that it is connected to.
const (
	Told      How = "told"
	Confirmed How = "confirmed"
	Guessed   How = "guessed"
)

// Sure reports whether a person at the rack may rely on it.
func (h How) Sure() bool { return h == Told || h == Confirmed }

// Spot is a person's observation of a bay: the drive in it, and the port of that drive.
type Spot struct {
	Section string    `json:"section"`
	Number  int       `json:"number"`
	Drive   string    `json:"drive"`
	Port    string    `json:"port,omitempty"`
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	// Moved is true when the enclosure was connected to another host since then.
	Moved bool `json:"moved,omitempty"`
}

// Find gives the bay of a drive from the observations, and how it is known. A drive on another port than when it was
// seen has moved; a drive that was never seen is guessed to be in the bay of the previous drive on its port.
func Find(spots []Spot, drive, port string) (s Spot, how How) {
	for _, x := range spots {
		if x.Drive == drive && (x.Port == port || x.Port == "" || port == "") {
			if x.Moved {
				return x, Guessed // no observation since then: it may have been changed by hand
			}
			return x, Confirmed
		}
	}
	for _, x := range spots {
		if x.Port == port && port != "" {
			return x, Guessed
		}
	}
	return Spot{}, ""
}

// Survey finds the bays of one host: each drive is lit in turn, and a person says in which bay.
type Survey struct {
	Host string            `json:"host"`
	By   string            `json:"by"`
	At   time.Time         `json:"at"`
	Todo []string          `json:"todo"` // keys of the drives to find; the first one is lit
	Done []Spot            `json:"done"`
	Skip []string          `json:"skip"` // skipped: nobody saw their light
	Tail map[string]string `json:"tails"`
}

// Now is the drive to find; empty when the survey is over.
func (s *Survey) Now() string {
	if len(s.Todo) == 0 {
		return ""
	}
	return s.Todo[0]
}

// Tap records the bay of the drive to find.
func (s *Survey) Tap(spot Spot) error {
	if s.Now() == "" {
		return fmt.Errorf("every drive has its bay; nothing is looked for")
	}
	for _, d := range s.Done {
		if d.Section == spot.Section && d.Number == spot.Number {
			return fmt.Errorf(
				"%s was found in bay %s/%d in this survey; undo that first, or choose another",
				s.Tail[d.Drive],
				d.Section,
				d.Number,
			)
		}
	}
	spot.Drive = s.Todo[0]
	s.Done, s.Todo = append(s.Done, spot), s.Todo[1:]
	return nil
}

// Pass postpones the drive to find, or skips it when it was postponed before.
func (s *Survey) Pass() error {
	now := s.Now()
	if now == "" {
		return fmt.Errorf("every drive has its bay; nothing is looked for")
	}
	s.Todo = s.Todo[1:]
	if slices.Contains(s.Skip, now) {
		return nil
	}
	s.Skip, s.Todo = append(s.Skip, now), append(s.Todo, now)
	return nil
}

// Back undoes the last bay; its drive is to be found again.
func (s *Survey) Back() error {
	n := len(s.Done)
	if n == 0 {
		return fmt.Errorf("there is nothing to take back")
	}
	s.Todo = append([]string{s.Done[n-1].Drive}, s.Todo...)
	s.Done = s.Done[:n-1]
	return nil
}

// Read records label tails in the order of a section's bays, as a person reads or scans them; a dash is an empty bay.
// All are accepted, or none.
func (s *Survey) Read(
	sec Section,
	first int,
	tails []string,
	at time.Time,
	by string,
	port func(drive string) string,
) error {
	numbers := sec.Numbers()
	from := slices.Index(numbers, first)
	if from < 0 {
		return fmt.Errorf("section %s has no bay %d", sec.Name, first)
	}
	var spots []Spot
	for i, tail := range tails {
		if from+i >= len(numbers) {
			return fmt.Errorf(
				"%d label tails from bay %d on are too many: section %s ends with bay %d",
				len(tails),
				first,
				sec.Name,
				numbers[len(numbers)-1],
			)
		}
		if tail == "-" {
			continue
		}
		var fits []string
		for key, t := range s.Tail {
			if strings.HasSuffix(strings.ToUpper(key), strings.ToUpper(tail)) ||
				strings.HasSuffix(strings.ToUpper(t), strings.ToUpper(tail)) {
				fits = append(fits, key)
			}
		}
		switch {
		case len(fits) == 0:
			return fmt.Errorf("no drive of %s has a label that ends in %q (bay %d)", s.Host, tail, numbers[from+i])
		case len(fits) > 1:
			return fmt.Errorf(
				"%q fits %d drives of %s (bay %d): read more characters",
				tail,
				len(fits),
				s.Host,
				numbers[from+i],
			)
		}
		for _, sp := range spots {
			if sp.Drive == fits[0] {
				return fmt.Errorf("%q was read twice, in bays %d and %d", tail, sp.Number, numbers[from+i])
			}
		}
		spots = append(
			spots,
			Spot{Section: sec.Name, Number: numbers[from+i], Drive: fits[0], Port: port(fits[0]), By: by, At: at},
		)
	}
	for _, sp := range spots {
		s.Done = slices.DeleteFunc(s.Done, func(d Spot) bool {
			return d.Drive == sp.Drive || d.Section == sp.Section && d.Number == sp.Number
		})
		s.Todo = slices.DeleteFunc(s.Todo, func(k string) bool { return k == sp.Drive })
		s.Done = append(s.Done, sp)
	}
	return nil
}

package judging

import (
	"encoding/json"
	"fmt"
	"lantern/internal/store"
)

func (s *State) loadStanding() error {
	rows, err := store.All[store.Standing](s.Store, "drive", "")
	if err != nil {
		return err
	}
	for _, row := range rows {
		d := s.fleet.Drives[row.Drive]
		if d == nil {
			continue
		}
		if err := json.Unmarshal(row.Doc, &d.Standing); err != nil {
			return fmt.Errorf("findings of drive %s: %w", row.Drive, err)
		}
	}
	return nil
}

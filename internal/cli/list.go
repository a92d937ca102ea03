package cli

// list prints a list: as JSON, as CSV, or as a table, or what an empty one means.
func list[T any](s *session, all []T, empty string, head []string, row func(T) []cell) error {
	if done, err := s.out.value(all); done {
		return err
	}
	if len(all) == 0 && s.out.format == "table" {
		s.out.line("%s", empty)
		return nil
	}
	rows := make([][]cell, len(all))
	for i, v := range all {
		rows[i] = row(v)
	}
	return s.out.table(head, rows)
}

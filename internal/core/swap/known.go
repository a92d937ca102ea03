package swap

// Known is a fact that may be missing. Its zero value is a missing fact: a check that needs it then stops (R7).
type Known[T any] struct {
	value T
	told  bool
}

// Told makes a known fact.
func Told[T any](v T) Known[T] { return Known[T]{v, true} }

// Get gives the fact; ok is false where it is missing.
func (k Known[T]) Get() (v T, ok bool) { return k.value, k.told }

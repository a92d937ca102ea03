package swap

// Known is a fact that somebody told. Its zero value is one that nobody did: a check that needs it stops then, whatever
// the value would be (R7).
type Known[T any] struct {
	value T
	told  bool
}

// Told is a fact.
func Told[T any](v T) Known[T] { return Known[T]{v, true} }

// Get is the fact; ok is false where nobody told it.
func (k Known[T]) Get() (v T, ok bool) { return k.value, k.told }

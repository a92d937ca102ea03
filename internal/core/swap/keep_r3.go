//go:build !without_r3

package swap

// keepsR3: no drive is written to before its label tail was typed. The proof is also run without this, to show that it
// then fails.
const keepsR3 = true

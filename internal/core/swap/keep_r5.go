//go:build !without_r5

package swap

// keepsR5: the swap does not continue while a wrong drive is out. The proof is also run without this, to show that it
// then fails.
const keepsR5 = true

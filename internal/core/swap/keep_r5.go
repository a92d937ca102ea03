//go:build !without_r5

package swap

// keepsR5: nothing goes on while a wrong drive is out. The proof is run without it as well, to see that it would
// notice.
const keepsR5 = true

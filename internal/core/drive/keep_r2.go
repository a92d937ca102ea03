//go:build !without_r2

package drive

// keepsR2: an order for another drive than the one it was given for is refused. The proof is also run without this
// check, to show that it then fails.
const keepsR2 = true

//go:build !without_r4

package swap

// keepsR4: no step that lowers the margin is asked for while a recovery runs in the pool. The proof is also run without
// this, to show that it then fails.
const keepsR4 = true

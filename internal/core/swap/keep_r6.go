//go:build !without_r6

package swap

// keepsR6: "done" follows only from an observation. The proof is also run without this, to show that it then fails.
const keepsR6 = true

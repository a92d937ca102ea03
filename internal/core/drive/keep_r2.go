//go:build !without_r2

package drive

// keepsR2: a drive whose identity differs from the one that was meant is recognised. The proof is run without it as
// well, to see that it would notice.
const keepsR2 = true

//go:build without_r1

package swap

const keepsR1 = false

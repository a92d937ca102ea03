//go:build without_r4

package swap

const keepsR4 = false

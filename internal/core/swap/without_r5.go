//go:build without_r5

package swap

const keepsR5 = false

//go:build without_uses

package swap

const keepsUses = false

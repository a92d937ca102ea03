//go:build !without_uses

package swap

// keepsUses: what else depends on a drive stops.
const keepsUses = true

//go:build !linux

// Package linux is the agent's view of a real host. Only Linux has it.
package linux

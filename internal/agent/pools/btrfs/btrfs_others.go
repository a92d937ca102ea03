//go:build !linux

// Package btrfs speaks for the kernel's btrfs file systems. Only Linux has them.
package btrfs

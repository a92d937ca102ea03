//go:build !linux

// Package lvm watches the volumes with redundancy that LVM makes with the kernel's device mapper. Only Linux has them.
package lvm

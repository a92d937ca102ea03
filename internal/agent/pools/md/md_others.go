//go:build !linux

package md

//go:build !linux

package main

// realCourses needs the Linux kernel.
func realCourses() (*card, string) { return nil, "this is not Linux" }

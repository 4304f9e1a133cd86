//go:build unix

package main

import "syscall"

// pipe makes a named pipe.
func pipe(name string) error { return syscall.Mkfifo(name, 0o644) }

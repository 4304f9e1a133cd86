//go:build unix

package main

import (
	"os"
	"syscall"
)

// peak is the largest resident size of a process that has ended, in KiB.
func peak(p *os.ProcessState) int64 {
	if usage, ok := p.SysUsage().(*syscall.Rusage); ok {
		return usage.Maxrss
	}
	return 0
}

//go:build unix

package cli

import (
	"os"
	"syscall"
)

// keepOwner gives a file the owner that another one has, where that is allowed.
func keepOwner(f *os.File, of os.FileInfo) {
	if stat, ok := of.Sys().(*syscall.Stat_t); ok {
		f.Chown(int(stat.Uid), int(stat.Gid))
	}
}

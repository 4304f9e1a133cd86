package cli

import (
	"flag"
	"fmt"
	"runtime"
	"runtime/debug"

	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   16,
		name:    "version",
		summary: "which kibitz this is: version, commit, Go, platform",
		about: `Says what this program was built of: its version, the commit, whether files were
changed beside that, the Go release, and the platform. kibitz -version is the same.`,
		shows: func(f *form) bool { return f.version != nil },
		setup: func(*flag.FlagSet) func(*run, []string) (int, error) {
			return func(r *run, args []string) (int, error) {
				if len(args) > 0 {
					return 0, usagef("version takes no argument")
				}
				return exitWell, r.form.version(r, builtOf())
			}
		},
	})
}

// A build is what a program was built of.
type build struct {
	Version  string `json:"version"`
	Commit   string `json:"commit,omitempty"`
	Time     string `json:"time,omitempty"`
	Changed  bool   `json:"changed,omitempty"` // files were, beside the commit
	Go       string `json:"go"`
	Platform string `json:"platform"`
}

// builtOf reads what Go has put into the program.
func builtOf() build {
	b := build{Version: "unknown", Go: runtime.Version(), Platform: runtime.GOOS + "/" + runtime.GOARCH}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return b
	}
	b.Version = info.Main.Version
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			b.Commit = s.Value
		case "vcs.time":
			b.Time = s.Value
		case "vcs.modified":
			b.Changed = s.Value == "true"
		}
	}
	return b
}

func (r *run) versionText(b build) error {
	r.out.Printf("kibitz %s   %s %s\n", render.Clean(b.Version), b.Go, b.Platform)
	if b.Commit != "" {
		changed := ""
		if b.Changed {
			changed = ", with changes that are not committed"
		}
		r.out.Printf("commit %s of %s%s\n", b.Commit, b.Time, changed)
	}
	return nil
}

func (r *run) versionJSON(b build) error {
	if b.Version == "" {
		return fmt.Errorf("it is not known what this program was built of")
	}
	return r.writeJSON(b)
}

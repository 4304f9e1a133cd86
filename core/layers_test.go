package core

// The core's packages form layers: each knows only those before it, and none
// knows the interface, a clock, the network or the terminal.

import (
	"go/build"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

func TestLayers(t *testing.T) {
	order := []string{"units", "canonical", "pattern", "request", "site", "representation", "rulebook", "request/list", "engine", "browser", "moves", "pages", "proof", "proof/trial", "fix", "draft", "replay", "excerpt"}
	outside := []string{"net", "net/http/httptest", "os/exec", "flag", "log"}
	rooms, err := filepath.Glob("*/*.go")
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range rooms {
		if room := filepath.ToSlash(filepath.Dir(file)); !slices.Contains(order, room) {
			t.Errorf("core/%s has no place among the layers", room)
		}
	}
	for i, name := range order {
		p, err := build.ImportDir(filepath.FromSlash(name), 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, path := range p.Imports {
			if slices.Contains(outside, path) {
				t.Errorf("core/%s imports %s", name, path)
			}
			if strings.HasPrefix(path, "kibitz/internal") {
				t.Errorf("core/%s imports %s: the core knows no interface", name, path)
			}
			inner, ok := strings.CutPrefix(path, "kibitz/core/")
			if ok && !slices.Contains(order[:i], inner) {
				t.Errorf("core/%s imports %s, which stands behind it", name, inner)
			}
		}
	}
}

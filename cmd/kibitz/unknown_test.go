package main

import (
	"strings"
	"testing"
)

// Whoever only keeps redirects names no files, and reads nothing that is not so.
func TestARulebookWithoutFiles(t *testing.T) {
	dir := write(t, map[string]string{
		"site.kibitz": "site s\n address https://s.example\nredirect old on /old to /new as permanent\naccess crew in /crew/ unless client 192.0.2.0/24 refuse\n",
		"with.kibitz": "site s\n address https://s.example\n files public\nredirect old on /old to /new as permanent\naccess crew in /crew/ unless client 192.0.2.0/24 refuse\n",
		"public/new":  "new",
		"l.txt":       "/old => 301 /new ends files\n/new => files\n/crew/ => 403\n",
		"wrong.txt":   "/new => 404\n",
		"log.txt":     "192.0.2.7 - - [10/Mar/2026:06:00:01 +0000] \"GET /new HTTP/1.1\" 200 5 \"-\" \"-\"\n",
	})
	for _, test := range []struct {
		args   string
		status int
		has    []string
		lacks  []string
	}{
		{"check", 0, []string{"nothing found\n", "guard-bypassed", "which files the site has is not known"}, []string{"missing-target", "hidden-by-rule", "split-address"}},
		{"trace /new", 0, []string{"files   /new", "Left to the site's files", "Add `files DIR`"}, []string{"404"}},
		{"trace -as json /new", 0, []string{`"status": "files"`, `"ending": "files"`}, nil},
		{"replay l.txt", 0, []string{"(unknown-tree) 1"}, []string{"\n  404", "Not found"}},
		{"replay -only files l.txt", 0, []string{"(unknown-tree) 1"}, nil},
		{"replay wrong.txt", 1, []string{"status 404 expected, files predicted"}, nil},
		{"replay log.txt", 0, nil, []string{"differently"}},
		{"replay -each -as jsonl l.txt", 0, []string{`"status":"files"`, `"ends":"files"`}, nil},
		{"replay -every-file", 2, nil, nil},
		{"compare site.kibitz with.kibitz l.txt", 0, nil, []string{"not found any more"}},
	} {
		out, errs, status := kibitz(t, dir, "", strings.Fields(test.args)...)
		if status != test.status {
			t.Errorf("%s: status %d, want %d\n%s%s", test.args, status, test.status, out, errs)
		}
		contains(t, out, test.has...)
		for _, s := range test.lacks {
			if strings.Contains(out, s) {
				t.Errorf("%s: %q is in\n%s", test.args, s, out)
			}
		}
	}
}

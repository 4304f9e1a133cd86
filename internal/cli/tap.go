package cli

// Expectations as test cases by the Test Anything Protocol, version 13.

import (
	"fmt"
	"strconv"
	"strings"
)

func init() { registerForm(form{name: "tap", rank: 3, cases: (*run).casesTAP}) }

// casesTAP writes them by the Test Anything Protocol, version 13.
func (r *run) casesTAP(_ string, cases []testCase) error {
	fmt.Fprintf(r.stdout, "TAP version 13\n1..%d\n", len(cases))
	for i, c := range cases {
		name := strings.ReplaceAll(c.name, "#", `\#`)
		if c.failed == "" {
			fmt.Fprintf(r.stdout, "ok %d - %s\n", i+1, name)
			continue
		}
		fmt.Fprintf(r.stdout, "not ok %d - %s\n  ---\n  message: %s\n  ...\n", i+1, name, strconv.Quote(c.failed))
	}
	return nil
}

package cli

// Expectations as test cases in the XML that many programs read.

import (
	"encoding/xml"
	"fmt"
)

func init() { registerForm(form{name: "junit", rank: 3, cases: (*run).casesJUnit}) }

// casesJUnit writes the expectations as JUnit test cases.
func (r *run) casesJUnit(name string, cases []testCase) error {
	type failure struct {
		Message string `xml:"message,attr"`
	}
	type testcase struct {
		Name    string   `xml:"name,attr"`
		Class   string   `xml:"classname,attr"`
		Failure *failure `xml:"failure,omitempty"`
	}
	type suite struct {
		XMLName  xml.Name   `xml:"testsuite"`
		Name     string     `xml:"name,attr"`
		Tests    int        `xml:"tests,attr"`
		Failures int        `xml:"failures,attr"`
		Cases    []testcase `xml:"testcase"`
	}
	s := suite{Name: "kibitz " + name, Tests: len(cases)}
	for _, c := range cases {
		t := testcase{Name: c.name, Class: name}
		if c.failed != "" {
			t.Failure = &failure{c.failed}
			s.Failures++
		}
		s.Cases = append(s.Cases, t)
	}
	fmt.Fprint(r.stdout, xml.Header)
	enc := xml.NewEncoder(r.stdout)
	enc.Indent("", "  ")
	err := enc.Encode(s)
	fmt.Fprintln(r.stdout)
	return err
}

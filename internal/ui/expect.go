package ui

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"
)

// TestCase is one test with its result, for the formats that test tools read.
type TestCase struct {
	Suite, Group, Name string
	File               string
	Line               int
	Failed, Skipped    bool
	Message            string // what came instead, or why it was left out
}

// TAP writes results in the Test Anything Protocol, version 14.
func TAP(w io.Writer, cases []TestCase) error {
	var b strings.Builder
	fmt.Fprintf(&b, "TAP version 14\n1..%d\n", len(cases))
	for i, c := range cases {
		status := "ok"
		if c.Failed {
			status = "not ok"
		}
		// A # begins a directive, and a backslash escapes it (TAP 14, Escaping).
		name := strings.NewReplacer(`\`, `\\`, "#", `\#`, "\n", " ").Replace(c.Name)
		fmt.Fprintf(&b, "%s %d - %s", status, i+1, name)
		if c.Skipped {
			fmt.Fprintf(&b, " # SKIP %s", c.Message)
		}
		b.WriteString("\n")
		if c.Failed {
			fmt.Fprintf(&b, "  ---\n  message: %q\n  at: %q\n  ...\n", c.Message, fmt.Sprintf("%s:%d", c.File, c.Line))
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

type junitSuites struct {
	XMLName xml.Name     `xml:"testsuites"`
	Suites  []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Skipped  int         `xml:"skipped,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Class   string     `xml:"classname,attr"`
	Name    string     `xml:"name,attr"`
	File    string     `xml:"file,attr"`
	Line    int        `xml:"line,attr"`
	Failure *junitSaid `xml:"failure,omitempty"`
	Skipped *junitSaid `xml:"skipped,omitempty"`
}

type junitSaid struct {
	Message string `xml:"message,attr"`
}

// JUnit writes results as JUnit XML, a suite for each file.
func JUnit(w io.Writer, cases []TestCase) error {
	var out junitSuites
	for _, c := range cases {
		if n := len(out.Suites); n == 0 || out.Suites[n-1].Name != c.Suite {
			out.Suites = append(out.Suites, junitSuite{Name: c.Suite})
		}
		s := &out.Suites[len(out.Suites)-1]
		class := c.Group
		if class == "" {
			class = c.Suite
		}
		j := junitCase{Class: class, Name: c.Name, File: c.File, Line: c.Line}
		switch s.Tests++; {
		case c.Failed:
			s.Failures++
			j.Failure = &junitSaid{c.Message}
		case c.Skipped:
			s.Skipped++
			j.Skipped = &junitSaid{c.Message}
		}
		s.Cases = append(s.Cases, j)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(out); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

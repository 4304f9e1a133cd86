package cli

// Findings in the Static Analysis Results Interchange Format (OASIS SARIF
// 2.1.0), which code hosts and editors read.

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/url"
	"path/filepath"
	"strings"

	"kibitz/core/proof"
	"kibitz/core/rulebook"
)

func init() { registerForm(form{name: "sarif", rank: 2, check: (*run).checkSARIF}) }

type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool       sarifTool     `json:"tool"`
		ColumnKind string        `json:"columnKind"`
		Results    []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name  string      `json:"name"`
		Rules []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID               string    `json:"id"`
		ShortDescription sarifText `json:"shortDescription"`
		Help             sarifText `json:"help"`
		Configuration    struct {
			Level string `json:"level"`
		} `json:"defaultConfiguration"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		RuleID           string            `json:"ruleId"`
		RuleIndex        int               `json:"ruleIndex"`
		Level            string            `json:"level"`
		Message          sarifText         `json:"message"`
		Locations        []sarifLocation   `json:"locations"`
		RelatedLocations []sarifLocation   `json:"relatedLocations,omitempty"`
		Fingerprints     map[string]string `json:"partialFingerprints"`
	}
	sarifLocation struct {
		ID       int        `json:"id,omitempty"`
		Physical sarifPlace `json:"physicalLocation"`
		Message  *sarifText `json:"message,omitempty"`
	}
	sarifPlace struct {
		Artifact struct {
			URI string `json:"uri"`
		} `json:"artifactLocation"`
		Region sarifRegion `json:"region"`
	}
	sarifRegion struct {
		StartLine   int `json:"startLine"`
		StartColumn int `json:"startColumn"`
		EndColumn   int `json:"endColumn,omitempty"`
	}
)

func (r *run) checkSARIF(c checked) error {
	report := c.report
	log := sarifLog{Schema: "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json", Version: "2.1.0"}
	run := sarifRun{ColumnKind: "unicodeCodePoints", Results: []sarifResult{}}
	run.Tool.Driver.Name = "kibitz"
	index := map[string]int{}
	for i, k := range append(proof.Kinds(), proof.Syntax) {
		rule := sarifRule{ID: k.Name, ShortDescription: sarifText{k.Summary}, Help: sarifText{"Before:\n" + k.Before + "\n\nAfter:\n" + k.After}}
		rule.Configuration.Level = string(k.Severity)
		run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, rule)
		index[k.Name] = i
	}
	seen := map[string]int{}
	for _, f := range report.Findings {
		text := f.Message
		if f.Request != nil {
			text += " Try it: " + r.traceLine(f.Request) + "."
		}
		if f.Advice != "" {
			text += " Fix: " + f.Advice + "."
		}
		result := sarifResult{RuleID: f.Name, RuleIndex: index[f.Name], Level: string(f.Severity), Message: sarifText{text},
			Locations: []sarifLocation{{Physical: sarifAt(f.Place, f.Width)}}}
		for i, rule := range f.Rules {
			if i > 0 {
				at := sarifLocation{ID: i, Physical: sarifAt(rule.Place, len(rule.Kind)), Message: &sarifText{rule.Name}}
				result.RelatedLocations = append(result.RelatedLocations, at)
			}
		}
		print := fingerprint(f)
		seen[print]++
		result.Fingerprints = map[string]string{"kibitz/v1": fmt.Sprintf("%s:%d", print, seen[print])}
		run.Results = append(run.Results, result)
	}
	log.Runs = []sarifRun{run}
	return r.writeJSON(log)
}

func sarifAt(p rulebook.Place, width int) sarifPlace {
	at := sarifPlace{Region: sarifRegion{StartLine: max(p.Line, 1), StartColumn: max(p.Col, 1)}}
	if width > 0 {
		at.Region.EndColumn = at.Region.StartColumn + width
	}
	if p.Source != nil {
		at.Artifact.URI = (&url.URL{Path: filepath.ToSlash(p.Source.Name)}).String()
	}
	return at
}

// fingerprint tells a finding from others, and stays when lines move: it is made
// of the words of the entry, and of no place.
func fingerprint(f *proof.Finding) string {
	words := []string{f.Name}
	if f.Page != "" {
		words = append(words, f.Page, f.Spots[0].Text, f.Short)
	}
	if len(f.Rules) > 0 {
		e := f.Rules[0].Entry
		words = append(words, string(f.Rules[0].Kind))
		for _, c := range e.Clauses {
			words = append(words, c.Keyword.Text)
			for _, v := range c.Values {
				words = append(words, v.Text)
			}
		}
	}
	sum := sha256.Sum256([]byte(strings.Join(words, "\x00")))
	return hex.EncodeToString(sum[:12])
}

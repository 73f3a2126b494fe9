package cli

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/finding"
)

// The parts of SARIF 2.1.0 (OASIS) that findings fill.
type (
	sarifText struct {
		Text string `json:"text"`
	}
	sarifRule struct {
		ID               string            `json:"id"`
		ShortDescription sarifText         `json:"shortDescription"`
		Help             sarifText         `json:"help"`
		Configuration    map[string]string `json:"defaultConfiguration"`
	}
	sarifRegion struct {
		StartLine   int `json:"startLine"`
		StartColumn int `json:"startColumn,omitempty"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   *sarifRegion  `json:"region,omitempty"`
	}
	sarifLocation struct {
		Physical sarifPhysical `json:"physicalLocation"`
	}
	sarifSuppression struct {
		Kind          string `json:"kind"`
		Justification string `json:"justification"`
	}
	sarifResult struct {
		RuleID       string             `json:"ruleId"`
		Level        string             `json:"level"`
		Message      sarifText          `json:"message"`
		Locations    []sarifLocation    `json:"locations"`
		Suppressions []sarifSuppression `json:"suppressions,omitempty"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifRun struct {
		Tool       map[string]sarifDriver `json:"tool"`
		ColumnKind string                 `json:"columnKind"`
		Results    []sarifResult          `json:"results"`
	}
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
)

func sarifLevel(s diagnostic.Severity) string {
	return map[diagnostic.Severity]string{diagnostic.Error: "error", diagnostic.Warning: "warning",
		diagnostic.Note: "note"}[s]
}

func sarifAt(at diagnostic.Position) sarifLocation {
	out := sarifPhysical{Artifact: sarifArtifact{at.File}}
	if at.Line > 0 {
		out.Region = &sarifRegion{at.Line, at.Column}
	}
	return sarifLocation{out}
}

func (a *app) checkSARIF(c checked) error {
	run := sarifRun{ColumnKind: "unicodeCodePoints", Results: []sarifResult{}}
	driver := sarifDriver{Name: "hgate", Version: Version(), Rules: []sarifRule{}}
	for _, f := range finding.All {
		driver.Rules = append(driver.Rules, sarifRule{f.Code, sarifText{f.Doc}, sarifText{f.Cure},
			map[string]string{"level": sarifLevel(f.Severity)}})
	}
	for _, what := range []string{"test", "guarantee"} {
		rule, list := "failing-"+what, c.tests
		if what == "guarantee" {
			list = c.guarantees
		}
		text := "A " + what + " of the policy does not come out as it says."
		driver.Rules = append(driver.Rules, sarifRule{rule, sarifText{text}, sarifText{"correct the policy, or the " + what},
			map[string]string{"level": "error"}})
		for _, o := range list {
			run.Results = append(run.Results, sarifResult{RuleID: rule, Level: "error",
				Message:   sarifText{"The " + what + " " + o.ID + " fails."},
				Locations: []sarifLocation{sarifAt(o.Source.Position)}})
		}
	}
	run.Tool = map[string]sarifDriver{"driver": driver}
	for _, f := range c.found {
		one := sarifResult{RuleID: f.Code, Level: sarifLevel(f.Severity),
			Message: sarifText{f.Message + ". Do: " + f.Help + "."}}
		one.Locations = []sarifLocation{sarifAt(f.Position)}
		if f.Accepted != "" {
			one.Suppressions = []sarifSuppression{{"inSource", f.Accepted}}
		}
		run.Results = append(run.Results, one)
	}
	return a.json(sarifLog{"https://json.schemastore.org/sarif-2.1.0.json", "2.1.0", []sarifRun{run}})
}

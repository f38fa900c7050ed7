package keybook

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"plumlatch/core/plaintext"
)

// Severities of findings. With an Error nothing is compared.
const (
	Error   = "error"
	Warning = "warning"
	Note    = "note"
)

// Finding is one thing that is wrong with a book, or worth knowing. Its sentence has nothing of a private key, and no control character.
type Finding struct {
	Code     string `json:"code"`
	Severity string `json:"severity"`
	Place
	Sentence string   `json:"sentence"`
	Near     []string `json:"near,omitempty"` // known words that are near
}

// Codes of findings, with what each means: the rules of a report for code review.
var Codes = map[string]string{
	"private-key":   "A private key stands in the book.",
	"yaml":          "The text is no YAML.",
	"too-large":     "The book is larger than any that is read.",
	"alias":         "A book has no anchors and aliases.",
	"form":          "A value has another form than its word asks for.",
	"unknown-word":  "A word is not known here.",
	"twice":         "A word or a name stands there twice.",
	"name":          "A name breaks the rule for names.",
	"case":          "A name is written with other capitals than where it is said.",
	"missing":       "Something has to be given.",
	"key":           "A public key cannot be read, or is not there.",
	"same-key":      "One key stands there under two names.",
	"weak-key":      "A key is weak.",
	"unknown-name":  "A name is not in this book.",
	"ambiguous":     "A name is that of a key and of a holder or a set.",
	"circle":        "A set or a team has itself in it.",
	"ended":         "An end has passed.",
	"no-target":     "An access chooses no instances.",
	"files":         "The files of a complete book are not those that it lists.",
	"two-books":     "A folder has files of two books.",
	"outside":       "A file lies outside the folder of the book.",
	"no-access":     "A key or a set is used nowhere.",
	"scope-by-tags": "What a book is complete for cannot be seen without the service.",
}

// Report is what a check found.
type Report struct {
	Book     string    `json:"book,omitempty"`
	Files    []string  `json:"files"`
	Findings []Finding `json:"findings"`
}

// Errors counts the findings of severity Error.
func (r Report) Errors() (n int) {
	for _, f := range r.Findings {
		if f.Severity == Error {
			n++
		}
	}
	return n
}

// String is a finding as a terminal has it: FILE:LINE:COLUMN: severity: sentence.
func (f Finding) String() string {
	at := plaintext.Line(f.File)
	if f.Line > 0 {
		at += fmt.Sprintf(":%d:%d", f.Line, f.Column)
	}
	text := fmt.Sprintf("%s: %s: %s", at, f.Severity, f.Sentence)
	if len(f.Near) > 0 {
		text += "; did you mean " + strings.Join(f.Near, " or ") + "?"
	}
	return text
}

// SARIF is the report in the Static Analysis Results Interchange Format, version 2.1.0 (OASIS), as code review reads it. version is that of
// the program.
func (r Report) SARIF(version string) ([]byte, error) {
	type message struct {
		Text string `json:"text"`
	}
	type rule struct {
		ID               string  `json:"id"`
		ShortDescription message `json:"shortDescription"`
	}
	type region struct {
		StartLine   int `json:"startLine"`
		StartColumn int `json:"startColumn,omitempty"`
	}
	type artifact struct {
		URI string `json:"uri"`
	}
	type physical struct {
		ArtifactLocation artifact `json:"artifactLocation"`
		Region           *region  `json:"region,omitempty"`
	}
	type location struct {
		PhysicalLocation physical `json:"physicalLocation"`
	}
	type result struct {
		RuleID    string     `json:"ruleId"`
		Level     string     `json:"level"` // error, warning, note
		Message   message    `json:"message"`
		Locations []location `json:"locations"`
	}
	type driver struct {
		Name    string `json:"name"`
		Version string `json:"version,omitempty"`
		Rules   []rule `json:"rules"`
	}
	type tool struct {
		Driver driver `json:"driver"`
	}
	type run struct {
		Tool    tool     `json:"tool"`
		Results []result `json:"results"`
	}
	one := run{Tool: tool{driver{Name: "plumlatch keybook check", Version: version, Rules: []rule{}}}, Results: []result{}}
	used := map[string]bool{}
	for _, f := range r.Findings {
		used[f.Code] = true
		text := f.Sentence
		if len(f.Near) > 0 {
			text += "; did you mean " + strings.Join(f.Near, " or ") + "?"
		}
		at := physical{ArtifactLocation: artifact{uri(f.File)}}
		if f.Line > 0 {
			at.Region = &region{f.Line, f.Column}
		}
		one.Results = append(one.Results, result{f.Code, f.Severity, message{text}, []location{{at}}})
	}
	for code, text := range Codes {
		if used[code] {
			one.Tool.Driver.Rules = append(one.Tool.Driver.Rules, rule{code, message{text}})
		}
	}
	slices.SortFunc(one.Tool.Driver.Rules, func(a, b rule) int { return strings.Compare(a.ID, b.ID) })
	return json.MarshalIndent(struct {
		Version string `json:"version"`
		Runs    []run  `json:"runs"`
	}{"2.1.0", []run{one}}, "", "  ")
}

// uri is a file's name as a relative reference (RFC 3986, section 4.2).
func uri(name string) string {
	var out strings.Builder
	for _, b := range []byte(name) {
		switch {
		case b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= '0' && b <= '9' || strings.IndexByte("-._~/", b) >= 0:
			out.WriteByte(b)
		default:
			fmt.Fprintf(&out, "%%%02X", b)
		}
	}
	return out.String()
}

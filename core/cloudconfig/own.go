package cloudconfig

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/mail"
	"net/textproto"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// OwnError says what is wrong with the engineer's own user data, and on which line.
type OwnError struct {
	Line   int // from 1; 0 if it is about the whole
	Reason string
}

// Error returns line and reason.
func (e OwnError) Error() string {
	if e.Line == 0 {
		return e.Reason
	}
	return fmt.Sprintf("line %d: %s", e.Line, e.Reason)
}

// Sorts of user data that cloud-init takes, by how they begin, and the type
// that a part of them has (cloud-init's documentation, "User data formats").
var sorts = []struct{ begins, mimeType string }{
	{"#cloud-config\n", "text/cloud-config"},
	{"#cloud-boothook", "text/cloud-boothook"},
	{"#cloud-config-archive", "text/cloud-config-archive"},
	{"#include-once", "text/x-include-once-url"},
	{"#include", "text/x-include-url"},
	{"## template: jinja", "text/jinja2"},
	{"#!", "text/x-shellscript"},
}

// part is one part of user data.
type part struct {
	mimeType string
	header   textproto.MIMEHeader // of a part that came in a multi-part message; else nil
	text     string
}

// beside puts our cloud-config after the engineer's own user data, in one
// multi-part message (RFC 2046 section 5.1), and checks theirs.
func beside(own, ours string) (Output, error) {
	if err := checkText(own); err != nil {
		return Output{}, err
	}
	own = strings.ReplaceAll(own, "\r\n", "\n")
	if !strings.HasSuffix(own, "\n") {
		own += "\n"
	}
	parts, err := split(own)
	if err != nil {
		return Output{}, err
	}
	var out Output
	for _, p := range parts {
		if p.mimeType == "text/cloud-config" {
			warnings, err := checkConfig(p.text)
			if err != nil {
				return Output{}, err
			}
			out.Warnings = append(out.Warnings, warnings...)
		}
	}
	parts = append(parts, part{mimeType: "text/cloud-config", text: ours})
	out.Text, err = join(parts)
	return out, err
}

// Check tells what is wrong with the engineer's own user data: an OwnError, or
// nil. It is what Build checks first.
func Check(own string) error {
	_, err := beside(own, header)
	return err
}

func checkText(own string) error {
	line := 1
	for i := 0; i < len(own); {
		r, n := utf8.DecodeRuneInString(own[i:])
		switch {
		case i == 0 && strings.HasPrefix(own, "\x1f\x8b"):
			return OwnError{0, "it is compressed; give it as plain text, it is merged with the keys"}
		case r == utf8.RuneError && n <= 1:
			return OwnError{line, "it is not UTF-8"}
		case r == 0:
			return OwnError{line, "there is a NUL in it"}
		case r == '\n':
			line++
		}
		i += n
	}
	return nil
}

// split returns the parts of user data: those of a multi-part message, or the one that it is.
func split(own string) ([]part, error) {
	for _, s := range sorts {
		if strings.HasPrefix(own, s.begins) {
			return []part{{mimeType: s.mimeType, text: own}}, nil
		}
	}
	message, err := mail.ReadMessage(strings.NewReader(own))
	if err != nil || message.Header.Get("Content-Type") == "" {
		return nil, OwnError{1, `the first line does not say what it is: it begins with "#cloud-config", "#!", "#cloud-boothook", "#include", "## template: jinja" or a multi-part message's header`}
	}
	kind, params, err := mime.ParseMediaType(message.Header.Get("Content-Type"))
	if err != nil || !strings.HasPrefix(kind, "multipart/") || params["boundary"] == "" {
		return nil, OwnError{0, "its Content-Type is not multipart with a boundary"}
	}
	reader := multipart.NewReader(message.Body, params["boundary"])
	var parts []part
	for {
		p, err := reader.NextRawPart()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, OwnError{0, "the multi-part message is broken: a part does not end"}
		}
		text, err := io.ReadAll(p)
		if err != nil {
			return nil, OwnError{0, "the multi-part message is broken: a part does not end"}
		}
		kind, _, err := mime.ParseMediaType(p.Header.Get("Content-Type"))
		if err != nil {
			return nil, OwnError{0, "a part of the multi-part message has no Content-Type"}
		}
		encoding := strings.ToLower(p.Header.Get("Content-Transfer-Encoding"))
		plain := encoding == "" || encoding == "7bit" || encoding == "8bit" || encoding == "binary"
		if !plain && kind == "text/cloud-config" {
			return nil, OwnError{0, "a cloud-config part is encoded as " + strconv.Quote(encoding) +
				"; give it as plain text, so that it can be checked"}
		}
		parts = append(parts, part{kind, p.Header, string(text)})
	}
	if len(parts) == 0 {
		return nil, OwnError{0, "the multi-part message has no part"}
	}
	return parts, nil
}

var yamlLine = regexp.MustCompile(`line (\d+): (.*)`)

// checkConfig parses a cloud-config as first boot will, and says what of ours it overrides.
func checkConfig(text string) (warnings []string, err error) {
	var root yaml.Node
	if err := yaml.Unmarshal([]byte(text), &root); err != nil {
		if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
			n, _ := strconv.Atoi(m[1])
			return nil, OwnError{lineOf(text, n), "this is no YAML: " + m[2]}
		}
		return nil, OwnError{0, "this is no YAML"}
	}
	if len(root.Content) == 0 {
		return nil, nil
	}
	top := root.Content[0]
	if top.Kind != yaml.MappingNode {
		return nil, OwnError{top.Line, "a cloud-config is a mapping of names to values"}
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(top.Content); i += 2 {
		k, v := top.Content[i], top.Content[i+1]
		if seen[k.Value] {
			return nil, OwnError{k.Line, strconv.Quote(k.Value) + " stands there twice"}
		}
		seen[k.Value] = true
		switch k.Value {
		case "ssh_pwauth":
			if on := strings.ToLower(v.Value); on != "false" && on != "no" && on != "0" {
				warnings = append(warnings,
					fmt.Sprintf("password login is not turned off: ssh_pwauth on line %d of your user data says so",
						v.Line))
			}
		case "disable_root":
			if off := strings.ToLower(v.Value); off == "false" || off == "no" {
				warnings = append(warnings,
					fmt.Sprintf("the keys open root's account too: disable_root on line %d of your user data says so",
						v.Line))
			}
		case "users":
			if v.Kind != yaml.SequenceNode {
				return nil, OwnError{v.Line, "users must be a list, so that the keys' users can be added to it"}
			}
		case "ssh_authorized_keys":
			if v.Kind != yaml.SequenceNode {
				return nil, OwnError{v.Line, "ssh_authorized_keys must be a list, so that the keys can be added to it"}
			}
			warnings = append(warnings, fmt.Sprintf("your user data places keys of its own (line %d), which the "+
				"ledger does not know: survey will show them as unrecorded", k.Line))
		case "merge_how", "merge_type":
			warnings = append(warnings, fmt.Sprintf("line %d of your user data says how it is merged; ours is "+
				"merged after it, by adding to its lists", k.Line))
		case "ssh_deletekeys", "ssh_keys":
			warnings = append(warnings, fmt.Sprintf("%s on line %d of your user data changes the host keys",
				k.Value, k.Line))
		}
	}
	return warnings, nil
}

// lineOf returns the line at which a text stops to be YAML. The parser's own
// number is beside it by one or two: the text is tried up to the lines around.
func lineOf(text string, near int) int {
	lines := strings.SplitAfter(text, "\n")
	for n := min(near+2, len(lines)); n > max(near-40, 0); n-- {
		var any yaml.Node
		if yaml.Unmarshal([]byte(strings.Join(lines[:n], "")), &any) == nil {
			return min(n+1, len(lines))
		}
	}
	return near
}

// join writes parts as one multi-part message.
func join(parts []part) (string, error) {
	var body bytes.Buffer
	w := multipart.NewWriter(&body)
	// A boundary that none of the parts can hold, as it is made from all of them.
	sum := sha256.New()
	for _, p := range parts {
		sum.Write([]byte(p.text))
	}
	if err := w.SetBoundary("plumlatch-" + hex.EncodeToString(sum.Sum(nil)[:12])); err != nil {
		return "", err
	}
	for _, p := range parts {
		h := p.header
		if h == nil {
			h = textproto.MIMEHeader{"Content-Type": {p.mimeType + `; charset="utf-8"`}, "MIME-Version": {"1.0"},
				"Content-Transfer-Encoding": {"8bit"}}
		}
		dst, err := w.CreatePart(h)
		if err != nil {
			return "", err
		}
		if _, err := io.WriteString(dst, p.text); err != nil {
			return "", err
		}
	}
	if err := w.Close(); err != nil {
		return "", err
	}
	text := fmt.Sprintf("Content-Type: multipart/mixed; boundary=%q\nMIME-Version: 1.0\n\n",
		w.Boundary()) + body.String()
	return strings.ReplaceAll(text, "\r\n", "\n"), nil
}

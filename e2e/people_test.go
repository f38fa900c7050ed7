package e2e

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"plumlatch/core/wire"
)

// TestPeoplePage: every button of the page for people does what it says: tokens, operators, roles, one's own
// password, and the policy with its check.
func TestPeoplePage(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 134)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	lead := d.api(t, "POST", "/api/v1/operators", `{"name":"people-lead","role":"admin"}`).field(t, "password")
	signsIn := func(operator, password string) bool {
		t.Helper()
		a := d.api(t, "POST", "/api/v1/session", mustJSON(t, map[string]string{"operator": operator, "password": password}),
			"Origin", d.url)
		return a.status < http.StatusBadRequest
	}
	operator := func(name string) (o wire.Operator) {
		t.Helper()
		var list wire.List[wire.Operator]
		mustDo(t, json.Unmarshal([]byte(d.api(t, "GET", "/api/v1/operators", "").body), &list))
		for _, x := range list.Items {
			if x.Name == name {
				o = x
			}
		}
		return o
	}
	b := openBrowser(t, d.url)
	b.signIn(t, "people-lead", lead)
	b.see(t, "people-lead, admin")
	b.visit(t, "/people")
	b.see(t, "Tokens of everybody", "Operators", "Policy", "Your password")

	// A token: shown once, and revoked.
	b.press(t, "Make a token")
	b.fill(t, "#name", "people-report")
	b.press(t, "Make it")
	b.see(t, "The token people-report, shown this once")
	shown, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](
		`[...document.querySelectorAll(".ant-alert code")].map((e) => e.innerText.trim()).find((x) => x.length > 20) ?? ""`))
	mustDo(t, err)
	if r := d.clientWith(t, d.url, shown, "", "whoami"); r.code != 0 || !strings.Contains(r.out, "people-lead") {
		t.Errorf("the token that was shown, %d characters: %+v", len(shown), r)
	}
	b.do(t, chromedp.Click(css(`button[aria-label="Revoke the token people-report"]`), seldom))
	b.see(t, "revoked")
	if r := d.clientWith(t, d.url, shown, "", "whoami"); r.code == 0 {
		t.Error("a revoked token is good")
	}

	// An operator, with a password, another role, and shut out.
	b.press(t, "Add an operator")
	b.fill(t, "#name", "people-new")
	b.press(t, "Add")
	b.see(t, "The password of people-new, shown this once")
	if o := operator("people-new"); o.Role != "viewer" || o.Disabled {
		t.Errorf("added: %+v", o)
	}
	b.do(t, chromedp.Click(css(`input[aria-label="Role of people-new"]`), seldom),
		chromedp.Click(css(`.ant-select-dropdown:not(.ant-select-dropdown-hidden) .ant-select-item-option[title="operator"]`), seldom))
	waitFor(t, "the other role", func() bool { return operator("people-new").Role == "operator" })
	b.do(t, chromedp.Click(css(`button[aria-label="Disable people-new"]`), seldom))
	b.see(t, "disabled")
	if !operator("people-new").Disabled {
		t.Error("it is not shut out")
	}
	b.do(t, chromedp.Click(css(`button[aria-label="Enable people-new"]`), seldom))
	waitFor(t, "it is let in again", func() bool { return !operator("people-new").Disabled })

	// The policy: what cannot be read is said, and not set.
	policy := css(`textarea[aria-labelledby="policy"]`)
	b.fill(t, policy, "rotation:\n  age: soon\n")
	b.press(t, "Check")
	b.see(t, "line 2: give a time such as 90d")
	b.fill(t, policy, "rotation:\n  age: 91d\n")
	b.press(t, "Check")
	b.see(t, "It can be read, and is not set yet.")
	if strings.Contains(d.must(t, "policy", "show"), "91d") {
		t.Error("a check set it")
	}
	b.press(t, "Set")
	b.see(t, "It is set; everything is judged by it anew.")
	contains(t, "the policy", d.must(t, "policy", "show"), "91d")

	// One's own password.
	b.fill(t, "#password", lead)
	b.fill(t, "#fresh", "a berth in the morning fog")
	b.press(t, "Change it")
	waitFor(t, "the new password", func() bool { return signsIn("people-lead", "a berth in the morning fog") })
	if signsIn("people-lead", lead) {
		t.Error("the old password is good")
	}
}

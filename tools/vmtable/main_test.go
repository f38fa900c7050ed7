package main

import (
	"strings"
	"testing"
	"time"
)

func TestRewrite(t *testing.T) {
	document := "before\n" + begins + "\nold\n" + ends + "after\n"
	times := `{"test":"TestVMGroup","image":"debian-12-lvm","what":"restore by disk","seconds":61.4}` + "\n" +
		`{"test":"TestVMSpeed","image":"debian-12","what":"launch beside a boot by hand","figure":"1.10 times"}` + "\n"
	day := time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
	out, err := rewrite([]byte(document), []byte(times), day)
	if text := string(out); err != nil || !strings.HasPrefix(text, "before\n"+begins) || !strings.HasSuffix(text, ends+"after\n") || strings.Contains(text, "old") ||
		!strings.Contains(text, "On 2026-12-01,") || !strings.Contains(text, "| TestVMGroup | debian-12-lvm | restore by disk | 1m1s |\n") ||
		!strings.Contains(text, "| TestVMSpeed | debian-12 | launch beside a boot by hand | 1.10 times |\n") {
		t.Errorf("%s %v", out, err)
	}
	again, err := rewrite(out, []byte(times), day)
	if err != nil || string(again) != string(out) {
		t.Errorf("written twice it is another: %s %v", again, err)
	}
	for what, c := range map[string][2]string{"no marks": {"text", times}, "one mark": {begins, times}, "nothing": {document, ""}, "no JSON": {document, "x\n"}} {
		if out, err := rewrite([]byte(c[0]), []byte(c[1]), day); err == nil {
			t.Errorf("%s: %s", what, out)
		}
	}
}

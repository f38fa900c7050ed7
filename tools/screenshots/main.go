// Command screenshots takes the pictures in docs/screenshots from a running
// demo: the console's pages in headless Chromium, and the client's output in a
// terminal window under Xvfb. "make screenshots" runs it.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
)

func main() {
	base := flag.String("url", "http://127.0.0.1:8470", "the demo's console")
	passwordFile := flag.String("password-file", ".demo/console-password", "the console password of harbour-lead")
	out := flag.String("out", "docs/screenshots", "where the pictures go")
	only := flag.String("only", "", "take only the pictures whose name contains this")
	flag.Parse()
	password, err := os.ReadFile(*passwordFile)
	if err == nil {
		err = errors.Join(os.MkdirAll(*out, 0o755), pages(*base, strings.TrimSpace(string(password)), *out, *only),
			terminals(*out, *only))
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "screenshots:", err)
		os.Exit(1)
	}
}

type css = chromedp.CSS

const width, height = 1280, 800

func pages(base, password, out, only string) error {
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.WindowSize(width, height),
		chromedp.Flag("force-color-profile", "srgb"),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	shot := func(name string, actions ...chromedp.Action[chromedp.Void]) error {
		if err := chromedp.Do(ctx, append(actions, chromedp.Sleep(900*time.Millisecond))...); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if !strings.Contains(name, only) {
			return nil
		}
		png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		return os.WriteFile(filepath.Join(out, name+".png"), png, 0o644)
	}
	return errors.Join(
		shell(handEdit),
		shot("console-today", chromedp.EmulateViewport(width, height), chromedp.Navigate(base),
			chromedp.WaitVisible(css("#operator")), chromedp.SendKeys(css("#operator"), "harbour-lead"),
			chromedp.SendKeys(css("#password"), password+"\r"), chromedp.WaitVisible(css(".matter"))),
		shot("console-map", chromedp.Navigate(base+"/map"), chromedp.WaitVisible(css("canvas.grid"))),
		shell(handEditBack),
		shot("console-instance", chromedp.Navigate(base+"/instances/berth-board-1"),
			chromedp.WaitVisible(css(".evidence"))),
		shell(breakDoor),
		shot("console-why", chromedp.Navigate(base+"/instances/cargo-manifest-1/why?key=cargo-robot"),
			chromedp.WaitVisible(css(".checklist .first"))),
		shell(mendDoor),
		shot("console-keybook", chromedp.Navigate(base+"/keybooks"), chromedp.WaitVisible(css("textarea")), chromedp.SendKeys(css("textarea"), tideBook),
			chromedp.Click(chromedp.Search(`//button[contains(., "Compare")]`)), chromedp.WaitVisible(css(".book-items")),
			chromedp.ScrollIntoView(css(".book-items li:last-child"))),
		shot("console-key", chromedp.Navigate(base+"/keys/old-gate-contractor"),
			chromedp.WaitVisible(css(".evidence"))),
		shot("console-launch", chromedp.Navigate(base+"/launch"), chromedp.WaitVisible(css("#name")),
			chromedp.SendKeys(css("#name"), "berth-board-9"),
			chromedp.Click(css("#keys")), chromedp.SendKeys(css("#keys"), "harbour-ops"),
			chromedp.Click(css(`.ant-select-item-option[title^="harbour-ops-2026"]`)), chromedp.Click(css("h1")),
			chromedp.Click(chromedp.Search(`//button[contains(., "cloud-config")]`)),
			chromedp.WaitVisible(css("pre")), scrollUp),
		shell(`curl -s -H "Authorization: Bearer $(cat .demo/standin-token)" -d '{"call":"state","name":"lamp-control-2"}' http://127.0.0.1:8471/v1/faults
			bin/plumlatch instance launch lamp-control-2 -image debian-12 -size small -region skerry-island -key skerry-watch,harbour-ops-2026 -tag lamp=red -detach`),
		chromedp.Do(ctx, chromedp.Navigate(base+"/instances/lamp-control-2"),
			chromedp.WaitVisible(css(".work-steps")), chromedp.WaitVisible(css(".evidence"))),
		shell("bin/plumlatch work cancel $(bin/plumlatch work list -instance lamp-control-2 -json | grep -m1 -o "+
			"'\"id\": [0-9]*' | grep -o '[0-9]*')"),
		shot("console-work", chromedp.Click(css(".work-head a")), chromedp.WaitVisible(css(".events"))),
		shell("bin/plumlatch instance remove lamp-control-2 -yes"),
		shot("console-shell", chromedp.Navigate(base+"/shells?instance=berth-board-1"), chromedp.WaitReady(css(`input[type="file"]`)),
			chromedp.SetUploadFiles(css(`input[type="file"]`), []string{dayCrew()}),
			chromedp.Click(chromedp.Search(`//button[contains(., "Open a shell on") and not(@disabled)]`)), chromedp.WaitVisible(css(".xterm-rows")),
			chromedp.Sleep(2*time.Second), types("hostname; id; ls -la .ssh"), chromedp.KeyEvent("\r"), chromedp.Sleep(time.Second),
			types("printf '\\033[32mwater at the berth\\033[0m \\033[38;2;138;96;22mhigh tide 2.40 m\\033[0m\\n'"), chromedp.KeyEvent("\r")),
		shot("console-restore", chromedp.Navigate(base+"/instances/ticket-gate-2/restore"),
			chromedp.WaitVisible(css(".routes")), scrollUp),
	)
}

// breakDoor takes one key's line out of a file of the stand-in, and mendDoor
// puts the file back, so that the demo stays as it was.
const (
	door      = `file=.demo/standin/instances/$(bin/plumlatch instance show cargo-manifest-1 -json | grep -o '"cloud_id": "[^"]*' | cut -d'"' -f4)/home/debian/.ssh/authorized_keys; `
	breakDoor = door + `cp -p $file $file.kept; grep -v "$(cut -d' ' -f2 demo-holders/cargo-robot/cargo-robot.pub)" $file.kept > $file`
	mendDoor  = door + `cat $file.kept > $file; rm $file.kept`

	// handEdit is what a colleague does with "echo >>"; handEditBack takes it away.
	edited       = `file=.demo/standin/instances/$(bin/plumlatch instance show berth-board-2 -json | grep -o '"cloud_id": "[^"]*' | cut -d'"' -f4)/home/debian/.ssh/authorized_keys; `
	handEdit     = edited + `cp -p $file $file.kept; ssh-keygen -q -t ed25519 -N "" -C pump-fitter -f /tmp/plumlatch-shot-key; cat /tmp/plumlatch-shot-key.pub >> $file; rm /tmp/plumlatch-shot-key*; bin/plumlatch survey -all -inside -outside`
	handEditBack = edited + `cat $file.kept > $file; rm $file.kept; bin/plumlatch survey berth-board-2`
)

// tideBook is a book whose difference has something of most sorts.
const tideBook = `keybook: tide-gauges
complete: {instances: [tide-gauge-1, tide-gauge-2, tide-gauge-3], files: [pasted.yaml]}
access:
  - {whom: [tide-survey, key/day-crew], to: {image: tideline-2}, reason: the winter survey}
  - {whom: key/skerry-watch, to: {instances: [tide-gauge-1]}, from: [127.0.0.0/8]}
`

// dayCrew is the private file of the day crew, whose key opens the berths.
func dayCrew() string {
	at, err := filepath.Abs("demo-holders/day-crew/day-crew")
	if err != nil {
		return ""
	}
	return at
}

// types writes into whatever has the focus.
func types(text string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := cdp.Call(ctx, target, input.InsertText, input.InsertTextParams{Text: text})
		return err
	})
}

// scrollUp brings the top of the page into the picture.
var scrollUp = chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
	_, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("(window.scrollTo(0, 0), true)"))
	return err
})

// shell runs a script against the demo.
func shell(script string) error {
	cmd := exec.Command("bash", "-c", ". .demo/client.env; "+script)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// terminals shows the client in a real terminal window. The clean-up removes
// what the launch made, so that the demo stays as it was.
func terminals(out, only string) error {
	folder, err := os.MkdirTemp("", "plumlatch-shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	var failed error
	for _, s := range []struct{ name, script string }{
		{"client-launch", `
			run bin/plumlatch key create gull-watch -dir ` + folder + ` -new-passphrase /dev/null
			run bin/plumlatch instance launch berth-board-9 -image debian-12 -size small -region north-pier -key gull-watch,harbour-ops-2026
			run bin/plumlatch open berth-board-9 -dir ` + folder + ` -- hostname
			run bin/plumlatch access list -instance berth-board-9`},
		{"client-today", handEdit + ` > /dev/null 2>&1
			run bin/plumlatch survey berth-board-2
			run bin/plumlatch today
			run bin/plumlatch key exposed old-gate-contractor -plan
			run bin/plumlatch journal verify
			` + handEditBack + ` > /dev/null`},
		{"client-adopt", `
			standin() { curl -s -H "Authorization: Bearer $(cat .demo/standin-token)" "http://127.0.0.1:8471/v1/$1" "${@:2}"; }
			field() { grep -o "\"$1\":\"[^\"]*\"" | head -1 | cut -d'"' -f4; }
			id=$(standin instances -d "{\"client_token\":\"shot-$$\",\"name\":\"slip-pump-1\",\"region\":\"north-pier\",\"image\":\"debian-12\",\"size\":\"small\",\"user_data\":\"#cloud-config\nssh_authorized_keys:\n  - $(cat demo-holders/day-crew/day-crew.pub)\n  - $(cat demo-holders/harbour-ops/harbour-ops-2026.pub)\n  - $(sed 's/ [^ ]*$/ pump-fitter/' <(ssh-keygen -q -t ed25519 -N "" -f ` + folder + `/pump && cat ` + folder + `/pump.pub))\n\"}" | field id)
			sleep 1.2
			address=$(standin instances/$id | field address)
			key=$(standin instances/$id/boot-output | grep -o 'SHA256:[A-Za-z0-9+/]*' | head -1)
			run bin/plumlatch instance adopt slip-pump-1 -address $address:2222 -user debian -identity demo-holders/day-crew/day-crew -host-key $key -tag slip=2
			run bin/plumlatch discover
			run bin/plumlatch cloud-key list -region north-pier,south-pier -dir demo-holders/harbour-ops
			bin/plumlatch instance remove slip-pump-1 -yes >/dev/null 2>&1; standin "instances/$id?client_token=gone-$$" -X DELETE >/dev/null`},
		{"client-work", `
			standin() { curl -s -H "Authorization: Bearer $(cat .demo/standin-token)" "http://127.0.0.1:8471/v1/$1" "${@:2}" > /dev/null; }
			standin faults -d '{"call":"state","name":"slip-pump-2"}'
			run bin/plumlatch instance launch slip-pump-2 -image debian-12 -size small -region north-pier -key day-crew,harbour-ops-2026 -detach
			id=$(bin/plumlatch work list -instance slip-pump-2 -json | grep -m1 -o '"id": [0-9]*' | grep -o '[0-9]*')
			run bin/plumlatch work list -limit 4
			run bin/plumlatch work cancel $id
			run bin/plumlatch work show $id
			bin/plumlatch instance remove slip-pump-2 -yes >/dev/null 2>&1`},
		{"client-keybook", `
			mkdir ` + folder + `/book; sed 's/pasted.yaml/tide.yaml/' > ` + folder + `/book/tide.yaml <<'END'
` + tideBook + `END
			( cd ` + folder + `; export PATH=$OLDPWD/bin:$PATH
			run cat book/tide.yaml
			run plumlatch keybook check book
			run plumlatch keybook compare book
			run plumlatch keybook settle book -yes -compared $(plumlatch keybook compare book -json | grep -m1 -o '"hash": "[^"]*' | cut -d'"' -f4)
			run plumlatch keybook history
			{ plumlatch work cancel $(plumlatch keybook history tide-gauges -json | grep -m1 -o '"work": [0-9]*' | grep -o '[0-9]*')
			for n in 1 2; do plumlatch access remove tide-gauge-$n -key day-crew -yes; done
			sed -i 's/.*skerry-watch.*/  - {whom: key\/skerry-watch, to: {instances: [tide-gauge-1, tide-gauge-2]}}/; s/, key.day-crew//' book/tide.yaml
			plumlatch keybook settle book -yes -compared $(plumlatch keybook compare book -json | grep -m1 -o '"hash": "[^"]*' | cut -d'"' -f4); } >/dev/null 2>&1 )`},
		{"client-rotate", `
			bin/plumlatch key create harbour-ops-2027 -dir ` + folder +
			` -new-passphrase /dev/null -holder harbour-ops >/dev/null 2>&1
			run bin/plumlatch rotate many harbour-ops-2026 -new harbour-ops-2027 -waves 50% -grace 7d -dir ` +
			folder + ` -yes
			run bin/plumlatch who berth-board-1
			id=$(bin/plumlatch work list -state open -json | grep -B3 -A3 '"rotate-many"' | grep -m1 -o '"id": [0-9]*' | grep -o '[0-9]*')
			bin/plumlatch work cancel $id >/dev/null 2>&1; bin/plumlatch key forget harbour-ops-2027 -yes >/dev/null 2>&1`},
		{"client-restore", `
			bin/plumlatch instance launch berth-board-8 -image debian-12 -size small -region north-pier -tag quay=8 -new-key tide-clerk -dir ` + folder + ` -new-passphrase /dev/null >/dev/null 2>&1
			run bin/plumlatch restore ready -tag quay
			run bin/plumlatch restore berth-board-8 -lost tide-clerk -go -name tide-clerk-2 -dir ` + folder +
			` -new-passphrase /dev/null -yes
			bin/plumlatch instance remove berth-board-8 -yes >/dev/null 2>&1; bin/plumlatch key forget tide-clerk -yes >/dev/null 2>&1; bin/plumlatch key forget tide-clerk-2 -yes >/dev/null 2>&1`},
		{"client-why", `
			mkdir ` + folder + `/desk; cp demo-holders/day-crew/day-crew* ` + folder + `/desk; chmod 644 ` +
			folder + `/desk/day-crew
			run bin/plumlatch why berth-board-2 -identity ` + folder + `/desk/day-crew
			run bin/plumlatch why berth-board-2 -identity ` + folder + `/desk/day-crew -fix -user root`},
		{"client-hosts", `
			export HOME=` + folder + `; mkdir -p $HOME/.ssh; cp demo-holders/harbour-ops/* $HOME/.ssh
			run bin/plumlatch hosts write -yes
			run ssh -F $HOME/.ssh/config berth-board-1 hostname
			run bin/plumlatch instance admit fare-ledger-1 -from 127.0.0.64/28 -for 30m -reason 'auditors, in the ticket hall'
			run bin/plumlatch instance rules fare-ledger-1
			run bin/plumlatch open -print fare-ledger-1
			bin/plumlatch instance unadmit fare-ledger-1 -from 127.0.0.64/28 -yes >/dev/null 2>&1`},
	} {
		if strings.Contains(s.name, only) {
			failed = errors.Join(failed, terminal(filepath.Join(out, s.name+".png"), s.script))
		}
	}
	if strings.Contains("client-launch", only) {
		cleanup := exec.Command("bash", "-c",
			". .demo/client.env; bin/plumlatch instance remove berth-board-9 -yes && bin/plumlatch key forget "+
				"gull-watch -yes")
		cleanup.Stderr = os.Stderr
		failed = errors.Join(failed, cleanup.Run())
	}
	return failed
}

func terminal(file, script string) error {
	inner := `. .demo/client.env; export LC_ALL=C.UTF-8; run() { printf '\033[1m$'; for a in "$@"; do case "$a" in *' '*) printf " '%s'" "$a";; *) printf ' %s' "$a";; esac; done | sed 's#/tmp/plumlatch-shots-[0-9]*/.ssh#~/.ssh#g;s#/tmp/plumlatch-shots-[0-9]*#~/.ssh#g'; printf '\033[0m\n' | sed 's#/tmp/plumlatch-shots-[0-9]*/.ssh#~/.ssh#g;s#/tmp/plumlatch-shots-[0-9]*#~/.ssh#g'; "$@" 2>&1 | sed 's#/tmp/plumlatch-shots-[0-9]*/.ssh#~/.ssh#g;s#/tmp/plumlatch-shots-[0-9]*#~/.ssh#g'; echo; }; clear
` + script + `
touch "$DONE"; sleep 30`
	done := file + ".done"
	defer os.Remove(done)
	outer := fmt.Sprintf(`xterm -geometry 159x46+0+0 -fa 'DejaVu Sans Mono' -fs 10 -bg '#fffdf9' -fg '#241f29' -e bash -c "$INNER" & p=$!
for i in $(seq 100); do sleep 0.2; [ -e %[1]q ] && break; done; sleep 0.7; import -window root %[2]q; kill $p`, done,
		file)
	cmd := exec.Command("xvfb-run", "-a", "-s", fmt.Sprintf("-screen 0 %dx%dx24", width, height), "bash", "-c", outer)
	cmd.Env = append(os.Environ(), "INNER="+inner, "DONE="+done)
	if text, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s", file, err, text)
	}
	return nil
}

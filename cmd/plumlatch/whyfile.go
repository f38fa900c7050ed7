package main

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/ssh/agent"

	"plumlatch/core/keypair"
	"plumlatch/core/why"
)

// The stage of the engineer's own file, and what -fix does for it.
const (
	stageYourFile  = "your file"
	fixMode        = "make it yours alone to read"
	fixLineEndings = "mend its line endings, with a backup beside it"
	fixPub         = "write the .pub anew from the private half, with a backup beside it"
)

// looked is a private file that was looked at.
type looked struct {
	why.File
	public keypair.Public // its Blob is nil where that is not known
	pair   *keypair.Pair  // open, nil while it is locked
}

// lookAtFile tells what is wrong with a private file, as ssh would meet it.
func lookAtFile(file string, passphrase []byte) looked {
	out := looked{File: why.File{Path: file}}
	wrong := func(code why.Code, next, sentence, evidence string, fix string) {
		out.Findings = append(out.Findings,
			why.Finding{Code: code, Stage: stageYourFile, Sentence: sentence, Evidence: evidence, Next: next, Fix: fix})
	}
	shown := shellWord(file)
	fi, err := os.Stat(file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		wrong(why.FileMissing, "plumlatch key check ~/.ssh", "The private file is not there.",
			file+": no such file", "")
		return out
	case err != nil:
		wrong(why.FileMissing, "ls -l "+shown, "The private file cannot be looked at.", err.Error(), "")
		return out
	case !fi.Mode().IsRegular():
		wrong(why.FileMissing, "plumlatch key check "+shown, "That is no file that could hold a key.", file+" is a "+
			map[bool]string{true: "folder", false: "special file"}[fi.IsDir()], "")
		return out
	}
	data, err := readLimited(file)
	if err != nil {
		wrong(why.FileMissing, "ls -l "+shown, "The private file cannot be read.", err.Error(), "")
		return out
	}
	defer clear(data)
	if bytes.Contains(data, []byte("\r")) && !bytes.Contains(data, []byte("\n")) {
		wrong(why.FileLineEndings, "plumlatch why INSTANCE -fix",
			"Its lines end as no system here ends them, and ssh cannot read it.",
			"there is no line feed in it, only carriage returns", "")
		return out
	}
	f, err := keypair.Read(data, passphrase)
	badPassphrase := errors.Is(err, keypair.ErrPassphrase)
	if badPassphrase {
		f, err = keypair.Read(data, nil)
	}
	switch {
	case err != nil:
		wrong(why.FileDamaged, "plumlatch key check "+shown,
			"The private file is damaged: there is no key in it that can be read.", err.Error(), "")
		return out
	case !f.Private:
		private := strings.TrimSuffix(file, ".pub")
		next := "give the private file"
		if _, err := os.Stat(private); err == nil && private != file {
			next = "the same command with -identity " + shellWord(private)
		}
		wrong(why.FileIsPublic, next, "That is the public half: ssh needs the private file.",
			file+" holds a public key", "")
		return out
	}
	out.public, out.pair, out.Locked = f.Public, f.Pair, f.Encrypted && f.Pair == nil
	if len(out.public.Blob) == 0 {
		if p, err := publicBeside(file); err == nil {
			out.public = p
		}
	}
	out.InAgent = inAgent(out.public)
	if f.Format == keypair.FormatOpenSSH && len(f.Remarks) > 0 {
		wrong(why.FileLineEndings, "plumlatch key check -fix "+shown,
			"Its line endings are not as ssh wants them, and it will not load.",
			strings.Join(f.Remarks, " "), fixLineEndings)
	}
	if w := keypair.LoadWarning(f.Public.Kind(), f.Format); w != "" {
		wrong(why.FileFormat, fmt.Sprintf("plumlatch key convert %s -format openssh -out %s", shown,
			shellWord(strings.TrimSuffix(file, filepath.Ext(file))+".openssh")),
			"ssh does not load this file as it is.", w, "")
	}
	if how, err := othersRead(file, fi); err == nil && how != "" {
		wrong(why.FileMode, aloneCommand(file), "Others can read the private file, and so ssh ignores it.",
			"ssh calls that an unprotected private key file, and passes over it", fixMode)
		last := &out.Findings[len(out.Findings)-1]
		last.Expected, last.Found = aloneWord, strings.TrimPrefix(how, "mode ")
	}
	if p, err := publicBeside(file); err == nil && len(f.Public.Blob) > 0 && p.Fingerprint() != f.Public.Fingerprint() {
		fix := fixPub
		if f.Pair == nil && len(f.Public.Blob) == 0 {
			fix = ""
		}
		wrong(why.PubDiffers, fmt.Sprintf("plumlatch key public %s > %s.pub", shown, shown),
			"The .pub beside it belongs to another key: ssh offers that one first, and has no private half for it.",
			file+".pub was read", fix)
		last := &out.Findings[len(out.Findings)-1]
		last.Expected, last.Found = f.Public.Fingerprint(), p.Fingerprint()
	}
	if badPassphrase {
		wrong(why.Passphrase, "the same command with the right -passphrase-file",
			"The given passphrase is not this file's.", "it does not open "+file, "")
	}
	return out
}

// publicBeside reads the .pub that ssh reads beside a private file.
func publicBeside(file string) (keypair.Public, error) {
	data, err := readLimited(file + ".pub")
	if err != nil {
		return keypair.Public{}, err
	}
	return keypair.ReadPublic(data)
}

// agentKeys lists the keys of the running ssh-agent; none where there is none.
func agentKeys() []*agent.Key {
	client, end, err := runningAgent()
	if err != nil {
		return nil
	}
	defer end.Close()
	keys, err := client.List()
	if err != nil {
		return nil
	}
	return keys
}

func inAgent(p keypair.Public) bool { return agentPlace(p) >= 0 }

// agentPlace is where the agent has a key, -1 if it has not.
func agentPlace(p keypair.Public) int {
	if len(p.Blob) == 0 {
		return -1
	}
	for n, k := range agentKeys() {
		if bytes.Equal(k.Blob, p.Blob) {
			return n
		}
	}
	return -1
}

// mend does what -fix does for one finding about a file.
func mend(f why.Finding, file string) (string, error) {
	switch f.Fix {
	case fixMode:
		return file + " is for " + aloneWord + " now", ownAlone(file)
	case fixLineEndings:
		r := checkFile(file, nil, true)
		if len(r.Fixed) == 0 {
			return "", fmt.Errorf("%s could not be mended", file)
		}
		return file + ": " + strings.Join(r.Fixed, " "), nil
	case fixPub:
		data, err := readLimited(file)
		if err != nil {
			return "", err
		}
		defer clear(data)
		p, err := keypair.PublicOfPrivate(data)
		if err != nil {
			return "", err
		}
		old, err := os.ReadFile(file + ".pub")
		if err != nil {
			return "", err
		}
		backup := file + ".pub.before-" + time.Now().Format("20060102-150405")
		if err := writeNew(backup, old, 0o644); err != nil {
			return "", err
		}
		return file + ".pub is its own now; the other one is " + filepath.Base(backup),
			replaceFile(file+".pub", p.Line()+"\n", 0o644)
	}
	return "", nil
}

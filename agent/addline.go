package agent

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"strings"
	"syscall"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/plaintext"
	"plumlatch/reach"
)

// AddLineCommand is the argument with which the agent runs itself as another user. What lies in a home is that user's: root would follow
// what the user puts in the way meanwhile, and the user alone can harm nobody else.
const AddLineCommand = "add-line"

type addLine struct {
	File   string `json:"file"`
	Line   string `json:"line"`
	Judged string `json:"judged"`
}

type lineAdded struct {
	Made    bool   `json:"made"`
	There   bool   `json:"there"`
	Changed bool   `json:"changed"`
	Refused string `json:"refused"`
}

// AddLine is what that run does: it reads what to add, and writes what came of it. The file and its folder are made where there are none.
func AddLine(in io.Reader, out io.Writer) error {
	var a addLine
	if err := json.NewDecoder(io.LimitReader(in, 1<<20)).Decode(&a); err != nil {
		return err
	}
	done, err := a.add()
	if err != nil {
		done.Refused = plaintext.Line(plaintext.Cut(err.Error(), 300))
	}
	return json.NewEncoder(out).Encode(done)
}

func (a addLine) add() (out lineAdded, err error) {
	files := reach.LocalFiles()
	data, err := reach.ReadKeys(files, a.File)
	missing := errors.Is(err, reach.ErrMissing)
	if err != nil && !missing {
		return out, err
	}
	if sum := sha256.Sum256(data); a.Judged != "" && a.Judged != hex.EncodeToString(sum[:]) {
		return lineAdded{Changed: true}, nil
	}
	if authkeys.ParseDocument(data).Has(a.Line) {
		return lineAdded{There: true}, nil
	}
	if missing {
		if err := os.Mkdir(path.Dir(a.File), 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
			return out, err
		}
		if err := files.Create(a.File, 0o600, nil); err != nil && !errors.Is(err, fs.ErrExist) {
			return out, err
		}
		out.Made = true
	}
	edited, err := reach.AddLine(files, a.File, a.Line, time.Now())
	if err != nil {
		return out, err
	}
	if !authkeys.ParseDocument(edited.After).Has(a.Line) {
		return out, errors.New("the line is not there")
	}
	return out, nil
}

// addAs adds a line to a file of a user's: by the user where it is in the home, and by root where nobody else can put anything in the way.
func addAs(ctx context.Context, u reach.UserHere, a addLine) (out lineAdded, err error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	text, err := json.Marshal(a)
	if err != nil {
		return out, err
	}
	cmd := exec.CommandContext(ctx, "/proc/self/exe", AddLineCommand)
	cmd.Env, cmd.Dir, cmd.Stdin = []string{"LC_ALL=C"}, "/", bytes.NewReader(text)
	if strings.HasPrefix(a.File, u.Home+"/") && u.Home != "/" {
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(u.UID), Gid: uint32(u.GID)}}
	} else if err := rootsOwn(path.Dir(a.File)); err != nil {
		return out, refused{err}
	}
	var said bytes.Buffer
	cmd.Stdout = &said
	if err := cmd.Run(); err != nil {
		return out, fmt.Errorf("it could not be run as the user: %w", err)
	}
	if err := json.Unmarshal(said.Bytes(), &out); err != nil {
		return out, errors.New("whether the line is there is not known")
	}
	switch {
	case out.Refused != "":
		return out, refused{errors.New(out.Refused)}
	case out.Changed:
		return out, errChanged
	}
	if out.Made { // labels of SELinux, where there are any (restorecon(8))
		if label, err := exec.LookPath("restorecon"); err == nil {
			_ = exec.CommandContext(ctx, label, "-R", path.Dir(a.File)).Run()
		}
	}
	return out, nil
}

// rootsOwn refuses a folder that others than root could change, itself or on the way to it.
func rootsOwn(dir string) error {
	for ; ; dir = path.Dir(dir) {
		fi, err := os.Lstat(dir)
		if err != nil {
			return err
		}
		st, ok := fi.Sys().(*syscall.Stat_t)
		if !ok || st.Uid != 0 || !fi.IsDir() || fi.Mode().Perm()&0o022 != 0 {
			return fmt.Errorf("%s can be changed by others than root", dir)
		}
		if dir == "/" {
			return nil
		}
	}
}

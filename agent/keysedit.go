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

	"plumlatch/core/agentcalls"
	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/rotation"
	"plumlatch/reach"
)

// EditKeysCommand is the argument with which the agent runs itself as another user. What lies in a home is that user's: root would follow
// what the user puts in the way meanwhile, and the user alone can harm nobody else.
const EditKeysCommand = "edit-keys"

// keysEdit is what that run is asked for: to add a line, to take lines out, or to read.
type keysEdit struct {
	User   string   `json:"user"`
	File   string   `json:"file"`
	Line   string   `json:"line,omitempty"`
	Take   []string `json:"take,omitempty"`
	Rests  []string `json:"rests,omitempty"`
	Judged string   `json:"judged,omitempty"`
}

type keysEdited struct {
	Made    bool                 `json:"made,omitempty"`
	There   bool                 `json:"there,omitempty"`
	Taken   bool                 `json:"taken,omitempty"`
	Changed bool                 `json:"changed,omitempty"` // the file is not the one that was judged
	Refused string               `json:"refused,omitempty"`
	SHA256  string               `json:"sha256,omitempty"`
	Keys    []agentcalls.SeenKey `json:"keys,omitempty"`
}

// EditKeys is what that run does: it reads what to do, and writes what came of it. The file and its folder are made where there are none and
// a line is added.
func EditKeys(ctx context.Context, in io.Reader, out io.Writer) error {
	var e keysEdit
	if err := json.NewDecoder(io.LimitReader(in, 1<<20)).Decode(&e); err != nil {
		return err
	}
	var done keysEdited
	var err error
	switch {
	case e.Line != "":
		done, err = e.add()
	case len(e.Take) > 0:
		done, err = e.take(ctx)
	default:
		done, err = e.read()
	}
	if err != nil {
		done.Refused = plaintext.Line(plaintext.Cut(err.Error(), 300))
	}
	return json.NewEncoder(out).Encode(done)
}

func (e keysEdit) judgedOn(data []byte) bool {
	sum := sha256.Sum256(data)
	return e.Judged == hex.EncodeToString(sum[:])
}

func (e keysEdit) add() (out keysEdited, err error) {
	files := reach.LocalFiles()
	data, err := reach.ReadKeys(files, e.File)
	missing := errors.Is(err, reach.ErrMissing)
	if err != nil && !missing {
		return out, err
	}
	if e.Judged != "" && !e.judgedOn(data) {
		return keysEdited{Changed: true}, nil
	}
	if authkeys.ParseDocument(data).Has(e.Line) {
		return keysEdited{There: true}, nil
	}
	if missing {
		if err := os.Mkdir(path.Dir(e.File), 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
			return out, err
		}
		if err := files.Create(e.File, 0o600, nil); err != nil && !errors.Is(err, fs.ErrExist) {
			return out, err
		}
		out.Made = true
	}
	edited, err := reach.AddLine(files, e.File, e.Line, time.Now())
	if err != nil {
		return out, err
	}
	if !authkeys.ParseDocument(edited.After).Has(e.Line) {
		return out, errors.New("the line is not there")
	}
	return out, nil
}

// take takes lines out by the safe edit. What another has appended since the file was judged does not stand in the way of that, and neither is it
// lost; anything else that changed does.
func (e keysEdit) take(ctx context.Context) (out keysEdited, err error) {
	files := reach.LocalFiles()
	data, err := reach.ReadKeys(files, e.File)
	if err != nil {
		return out, err
	}
	permit, err := rotation.OnRequest(rotation.Paper{LoginUser: e.User, File: e.File, SHA256: e.Judged, Lines: e.Take, Rests: e.Rests,
		Until: time.Now().Add(time.Minute)}, data)
	if errors.Is(err, rotation.ErrStale) {
		return keysEdited{Changed: true}, nil
	}
	if err != nil {
		return out, err
	}
	edited, err := reach.Edit(ctx, files, e.File, permit, reach.EditOptions{Now: time.Now()}, func(d *authkeys.Document) error {
		for _, line := range e.Take {
			d.RemoveAppended(line)
		}
		return nil
	})
	if err != nil {
		return out, err
	}
	left := authkeys.ParseDocument(edited.After)
	for _, line := range e.Take {
		if left.Has(line) {
			return out, errors.New("a line stands there still")
		}
	}
	return keysEdited{Taken: true}, nil
}

// read tells which keys stand in the file, as a survey does, and the hash by which it can be judged.
func (e keysEdit) read() (out keysEdited, err error) {
	data, err := reach.ReadKeys(reach.LocalFiles(), e.File)
	if err != nil && !errors.Is(err, reach.ErrMissing) {
		return out, err
	}
	sum := sha256.Sum256(data)
	out = keysEdited{SHA256: hex.EncodeToString(sum[:]), Keys: []agentcalls.SeenKey{}}
	for _, l := range authkeys.Parse(data, time.UTC) {
		if l.Err == nil {
			out.Keys = append(out.Keys, agentcalls.SeenKey{Line: l.Number, Options: l.Options.Text, PublicKey: keypair.Public{Blob: l.Blob}.Line()})
		}
	}
	return out, nil
}

// editAs edits a file of a user's: by the user where it is in the home, and by root where nobody else can put anything in the way.
func editAs(ctx context.Context, u reach.UserHere, e keysEdit) (out keysEdited, err error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	text, err := json.Marshal(e)
	if err != nil {
		return out, err
	}
	cmd := exec.CommandContext(ctx, "/proc/self/exe", EditKeysCommand)
	cmd.Env, cmd.Dir, cmd.Stdin = []string{"LC_ALL=C"}, "/", bytes.NewReader(text)
	if strings.HasPrefix(e.File, u.Home+"/") && u.Home != "/" {
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(u.UID), Gid: uint32(u.GID)}}
	} else if err := rootsOwn(path.Dir(e.File)); err != nil {
		return out, refused{err}
	}
	var said bytes.Buffer
	cmd.Stdout = &said
	if err := cmd.Run(); err != nil {
		return out, fmt.Errorf("it could not be run as the user: %w", err)
	}
	if err := json.Unmarshal(said.Bytes(), &out); err != nil {
		return out, errors.New("whether it was done is not known")
	}
	switch {
	case out.Refused != "":
		return out, refused{errors.New(out.Refused)}
	case out.Changed:
		return out, ErrChanged
	}
	if out.Made { // labels of SELinux, where there are any (restorecon(8))
		if label, err := exec.LookPath("restorecon"); err == nil {
			_ = exec.CommandContext(ctx, label, "-R", path.Dir(e.File)).Run()
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

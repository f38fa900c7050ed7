// Package shell is an SSH client for a page: one connection, with a terminal and with files, over bytes that somebody else carries (package stream). It
// is compiled for the browser, so that SSH ends there, and whoever carries the bytes cannot read them.
package shell

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"plumlatch/core/hostkeys"
	"plumlatch/core/plaintext"
)

// Errors.
var (
	// ErrHostKey: the server shows another host key than the recorded ones; nothing was sent to it.
	ErrHostKey = errors.New("the server shows another host key than the recorded one: it may be another machine, or somebody between. Nothing was sent to it")
	// ErrRefused: the server does not take the key.
	ErrRefused = errors.New("the server does not take this key")
	// ErrName: a file cannot have this name.
	ErrName = errors.New("this is no name of a file")
)

// Options are what a connection needs.
type Options struct {
	User     string
	HostKeys [][]byte   // blobs; no other is taken
	Signer   ssh.Signer // of the private key, which stays where it is
	Limit    time.Duration
}

// Shell is a connection. Its methods may be called by several goroutines.
type Shell struct {
	client *ssh.Client

	mu      sync.Mutex
	session *ssh.Session
	files   *sftp.Client
}

// Open logs in. The host key is checked before anything is signed. ErrHostKey, ErrRefused.
func Open(ctx context.Context, conn net.Conn, o Options) (*Shell, error) {
	if len(o.HostKeys) == 0 {
		return nil, ErrHostKey
	}
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	late := time.AfterFunc(max(o.Limit, time.Second), func() { conn.Close() })
	defer late.Stop()
	stranger, asked := false, false
	c, channels, requests, err := ssh.NewClientConn(conn, "stream", &ssh.ClientConfig{
		User: o.User, ClientVersion: "SSH-2.0-plumlatch-page", HostKeyAlgorithms: hostkeys.Algorithms(o.HostKeys),
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if stranger = !slices.ContainsFunc(o.HostKeys, func(b []byte) bool { return bytes.Equal(b, key.Marshal()) }); stranger {
				return ErrHostKey
			}
			return nil
		},
		Auth: []ssh.AuthMethod{ssh.PublicKeysCallback(func() ([]ssh.Signer, error) {
			asked = true
			return []ssh.Signer{o.Signer}, nil
		})},
	})
	var none *ssh.AlgorithmNegotiationError
	switch {
	case err == nil:
	case stranger, errors.As(err, &none) && none.What == "host key":
		conn.Close()
		return nil, ErrHostKey
	case asked: // or the connection went in the middle: whoever carries it knows
		conn.Close()
		return nil, ErrRefused
	default:
		conn.Close()
		return nil, fmt.Errorf("no login came of it: %s", plaintext.Line(plaintext.Cut(err.Error(), 300)))
	}
	return &Shell{client: ssh.NewClient(c, channels, requests)}, nil
}

// Terminal is what a session on a terminal gives and takes.
type Terminal struct {
	In  io.WriteCloser
	Out io.Reader
}

// Start begins the login shell on a terminal (RFC 4254 section 6.2). There is one in a connection.
func (s *Shell) Start(columns, rows int) (Terminal, error) {
	session, err := s.client.NewSession()
	if err != nil {
		return Terminal{}, err
	}
	s.mu.Lock()
	s.session = session
	s.mu.Unlock()
	in, err := session.StdinPipe()
	if err != nil {
		return Terminal{}, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return Terminal{}, err
	}
	if err := session.RequestPty("xterm-256color", rows, columns, ssh.TerminalModes{ssh.ECHO: 1, ssh.IUTF8: 1}); err != nil {
		return Terminal{}, fmt.Errorf("the server gives no terminal with this key: %w", err)
	}
	if err := session.Shell(); err != nil {
		return Terminal{}, fmt.Errorf("the server gives no shell with this key: %w", err)
	}
	return Terminal{in, out}, nil
}

// Resize tells the size of the terminal (RFC 4254 section 6.7).
func (s *Shell) Resize(columns, rows int) error {
	s.mu.Lock()
	session := s.session
	s.mu.Unlock()
	if session == nil {
		return nil
	}
	return session.WindowChange(rows, columns)
}

// Wait waits for the end of the login shell, and says how it ended: "" after status 0.
func (s *Shell) Wait() string {
	s.mu.Lock()
	session := s.session
	s.mu.Unlock()
	var status *ssh.ExitError
	switch err := session.Wait(); {
	case err == nil:
		return ""
	case errors.As(err, &status) && status.Signal() != "":
		return "it was ended by the signal " + plaintext.Line(plaintext.Cut(status.Signal(), 20))
	case errors.As(err, &status):
		return fmt.Sprintf("it ended with status %d", status.ExitStatus())
	}
	return "the connection ended"
}

// Close ends the connection.
func (s *Shell) Close() error { return s.client.Close() }

// File is an entry of a folder.
type File struct {
	Name   string
	Size   int64
	Folder bool
	Mode   fs.FileMode
	At     time.Time
}

// mostFiles is how many entries of a folder are shown.
const mostFiles = 5000

func (s *Shell) sftp() (*sftp.Client, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.files != nil {
		return s.files, nil
	}
	c, err := sftp.NewClient(s.client)
	if err != nil {
		return nil, fmt.Errorf("the server gives no files with this key: %w", err)
	}
	s.files = c
	return c, nil
}

// Files lists a folder, "" for the home: folders first. where is its whole path.
func (s *Shell) Files(folder string) (where string, out []File, err error) {
	c, err := s.sftp()
	if err != nil {
		return "", nil, err
	}
	if folder == "" {
		folder = "."
	}
	if where, err = c.RealPath(folder); err != nil {
		return "", nil, err
	}
	entries, err := c.ReadDir(where)
	if err != nil {
		return "", nil, err
	}
	for _, e := range entries {
		if len(out) < mostFiles {
			out = append(out, File{e.Name(), e.Size(), e.IsDir(), e.Mode(), e.ModTime()})
		}
	}
	slices.SortFunc(out, func(a, b File) int {
		if a.Folder != b.Folder {
			if a.Folder {
				return -1
			}
			return 1
		}
		return strings.Compare(a.Name, b.Name)
	})
	return where, out, nil
}

// Get reads a file into w, and tells how much came. It ends with ctx.
func (s *Shell) Get(ctx context.Context, name string, w io.Writer) error {
	c, err := s.sftp()
	if err != nil {
		return err
	}
	f, err := c.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.WriteTo(until{ctx, w})
	return errors.Join(ctx.Err(), err)
}

type until struct {
	ctx context.Context
	w   io.Writer
}

func (u until) Write(p []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.w.Write(p)
}

// Put writes a file into a folder, under a name beside it first: what stood there stays until all has come. It ends with ctx. ErrName.
func (s *Shell) Put(ctx context.Context, folder, name string, r io.Reader) error {
	if name == "" || name == "." || name == ".." || strings.ContainsAny(name, "/\x00") {
		return ErrName
	}
	c, err := s.sftp()
	if err != nil {
		return err
	}
	to := path.Join(folder, name)
	beside := to + ".plumlatch-part"
	f, err := c.Create(beside)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, source{ctx, r})
	err = errors.Join(ctx.Err(), err, f.Close())
	if err == nil {
		if was, e := c.Stat(to); e == nil { // it keeps who may do what with it
			err = c.Chmod(beside, was.Mode().Perm())
		}
	}
	if err == nil {
		err = c.PosixRename(beside, to)
	}
	if err != nil {
		_ = c.Remove(beside)
	}
	return err
}

type source struct {
	ctx context.Context
	r   io.Reader
}

func (s source) Read(p []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	return s.r.Read(p)
}

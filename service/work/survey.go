package work

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/service/cloud"
	"plumlatch/service/reach"
	"plumlatch/service/store"
)

// ErrCannotSurvey is wrapped with the reason for which an instance cannot be read now.
var ErrCannotSurvey = errors.New("it cannot be surveyed")

// surveyLimit is the most that one survey may take.
const surveyLimit = 30 * time.Second

// Survey reads the files of an instance's login user once, by the steward over
// SFTP, and compares them with the ledger. Each access is observed as seen, or
// as not there. ErrCannotSurvey if the instance does not run, no host key of
// it is pinned, or the steward does not get in.
func (w *Worker) Survey(ctx context.Context, by store.Actor, i store.Instance) (wire.Survey, error) {
	out := wire.Survey{Instance: i.Name, LoginUser: i.LoginUser, Files: []string{}, NotSeen: []string{}, Broken: []string{}, Keys: []wire.Surveyed{}}
	if i.State != string(cloud.Running) || i.Phase != store.Ready {
		return out, fmt.Errorf("%w: the instance is %s", ErrCannotSurvey, i.State)
	}
	ctx, cancel := context.WithTimeout(ctx, surveyLimit)
	defer cancel()
	files, closer, err := w.steward(ctx, i)
	if err != nil {
		return out, err
	}
	defer closer()
	lines, document := readKeysFiles(files, i, &out)
	out.NotSeen = append(out.NotSeen,
		"other users' files, and the server's configuration: the steward is confined to the login user's files",
		"other places that the server may read keys from (AuthorizedKeysFile, AuthorizedKeysCommand, certificate authorities)")
	rows, err := w.accessesOf(ctx, i)
	if err != nil {
		return out, err
	}
	found, unrecorded, err := w.compare(ctx, &out, rows, lines)
	if err != nil {
		return out, err
	}
	out.At = time.Now().UTC()
	missing := 0
	for _, there := range found {
		if !there {
			missing++
		}
	}
	if len(out.Files) == 0 && len(out.NotSeen) > 2 { // a file is there, and could not be read: nothing is known to be gone
		return out, nil
	}
	outcome := fmt.Sprintf("%d recorded, %d unrecorded, %d missing", len(found)-missing, unrecorded, missing)
	return out, w.Store.Saw(ctx, by, i, found, "steward", document, outcome)
}

// filesOf are the files that an instance's server reads for its login user.
func filesOf(i store.Instance) []string {
	if len(i.KeysFiles) > 0 {
		return i.KeysFiles
	}
	return reach.DefaultKeysFiles
}

// readKeysFiles reads the files of an instance's login user, notes in out what
// was read and what could not be, and returns the lines and a hash of it all.
func readKeysFiles(files reach.Files, i store.Instance, out *wire.Survey) (lines []surveyedLine, document string) {
	hash := sha256.New()
	for _, name := range filesOf(i) {
		data, err := reach.ReadKeys(files, name)
		if errors.Is(err, reach.ErrMissing) {
			continue
		}
		if err != nil {
			out.NotSeen = append(out.NotSeen, plaintext.Line(fmt.Sprintf("%s of %s: %v", name, i.LoginUser, err)))
			continue
		}
		out.Files = append(out.Files, name)
		fmt.Fprintf(hash, "%s %d\n", name, len(data))
		hash.Write(data)
		for _, l := range authkeys.Parse(data, time.UTC) {
			if l.Err != nil {
				out.Broken = append(out.Broken, fmt.Sprintf("%s line %d: %v", name, l.Number, l.Err))
				continue
			}
			lines = append(lines, surveyedLine{name, l})
		}
	}
	return lines, hex.EncodeToString(hash.Sum(nil))
}

type surveyedLine struct {
	file string
	authkeys.Line
}

// compare sets the lines against the accesses: which are there, and what is
// there besides.
func (w *Worker) compare(ctx context.Context, out *wire.Survey, rows []store.Access, lines []surveyedLine) (found map[int64]bool, unrecorded int, err error) {
	found = map[int64]bool{}
	show := func(result string, p keypair.Public) wire.Surveyed {
		return wire.Surveyed{Result: result, Kind: p.Kind(), Fingerprint: p.Fingerprint(), Bitting: p.Bitting().String(), Comment: plaintext.Line(p.Comment), PublicKey: keypair.Public{Blob: p.Blob}.Line()}
	}
	for _, l := range lines {
		s := show("unrecorded", keypair.Public{Blob: l.Blob, Comment: l.Comment})
		s.File, s.Line, s.Options = l.file, l.Number, plaintext.Line(l.Options.Text)
		for _, a := range rows {
			if bytes.Equal(a.Blob, l.Blob) {
				s.Result, s.Key, s.Steward = "recorded", a.Key, a.Steward
				found[a.ID] = true
			}
		}
		if s.Result == "unrecorded" {
			unrecorded++
			// The ledger may know the key, though not that it opens this instance.
			if k, err := w.Store.KeyByFingerprint(ctx, s.Fingerprint); err == nil {
				s.Key = k.Name
			} else if !errors.Is(err, store.ErrNotFound) {
				return nil, 0, err
			}
		}
		out.Keys = append(out.Keys, s)
	}
	for _, a := range rows {
		if found[a.ID] {
			continue
		}
		found[a.ID] = false
		s := show("missing", keypair.Public{Blob: a.Blob, Comment: a.Comment})
		s.Key, s.Steward = a.Key, a.Steward
		out.Keys = append(out.Keys, s)
	}
	return found, unrecorded, nil
}

func (w *Worker) accessesOf(ctx context.Context, i store.Instance) ([]store.Access, error) {
	rows, _, err := w.Store.AccessList(ctx, store.AccessQuery{Instance: i.Name, Page: store.Page{Limit: 500}})
	return rows, err
}

// steward opens the steward's way into an instance.
func (w *Worker) steward(ctx context.Context, i store.Instance) (reach.Files, func(), error) {
	t, err := w.target(ctx, i)
	if err != nil {
		return nil, nil, err
	}
	if len(t.HostKeys) == 0 {
		return nil, nil, fmt.Errorf("%w: no host key of it is known", ErrCannotSurvey)
	}
	signer, err := w.stewardSigner(ctx, i.ID)
	if err != nil {
		return nil, nil, err
	}
	files, closer, err := reach.SFTP(ctx, w.Policy, t, signer)
	if err != nil {
		return nil, nil, fmt.Errorf("%w: the steward does not get in: %s", ErrCannotSurvey, plaintext.Line(plaintext.Cut(strings.TrimSpace(err.Error()), 200)))
	}
	return files, func() { _ = closer.Close() }, nil
}

// stewardSigner opens the steward's sealed private half of an instance.
func (w *Worker) stewardSigner(ctx context.Context, instanceID int64) (ssh.Signer, error) {
	sealed, err := w.Store.StewardSealed(ctx, instanceID)
	if err != nil {
		return nil, err
	}
	private, err := w.Sealer.Open(sealed)
	if err != nil {
		return nil, err
	}
	defer clear(private)
	pair, err := keypair.ReadPrivate(private, nil)
	if err != nil {
		return nil, err
	}
	return pair.Signer()
}

// seal encrypts a steward key's private half for the database.
func (w *Worker) seal(pair *keypair.Pair) ([]byte, error) {
	private, err := pair.OpenSSH(nil)
	if err != nil {
		return nil, err
	}
	defer clear(private)
	return w.Sealer.Seal(private)
}

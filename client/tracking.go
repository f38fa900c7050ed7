package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"plumlatch/core/journal"
	"plumlatch/core/secrets"
	"plumlatch/core/wire"
)

// Survey has the service find out what opens an instance, now.
func (c *Client) Survey(ctx context.Context, name string, r wire.SurveyRequest) (s wire.Survey, err error) {
	return s, c.do(ctx, "POST", instancePath(name, "survey"), nil, r, &s)
}

// ClientSurvey tells the service what this machine saw from inside, and returns
// that beside the ledger.
func (c *Client) ClientSurvey(ctx context.Context, name string, r wire.ClientSurvey) (s wire.Survey, err error) {
	secrets.BlankAll(&r) // what stands on an instance may be a private key; it goes no further
	return s, c.do(ctx, "POST", instancePath(name, "client-survey"), nil, r, &s)
}

// SurveyMany begins a survey of many instances.
func (c *Client) SurveyMany(ctx context.Context, r wire.SurveyMany) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", "/surveys", r, &w)
}

// Surveys returns the last surveys that the query (region, tag, survey, found, work) chooses.
func (c *Client) Surveys(ctx context.Context, query url.Values) ([]wire.LastSurvey, error) {
	return all[wire.LastSurvey](ctx, c, "/surveys", query)
}

// LastSurveys returns the last survey of each sort of an instance, with its report.
func (c *Client) LastSurveys(ctx context.Context, name string) ([]wire.LastSurvey, error) {
	return all[wire.LastSurvey](ctx, c, instancePath(name, "surveys"), nil)
}

// Opening answers what opens an instance.
func (c *Client) Opening(ctx context.Context, name string) (o wire.Opening, err error) {
	return o, c.do(ctx, "GET", instancePath(name, "opening"), nil, nil, &o)
}

// Opens answers what a key opens, by its name or its fingerprint.
func (c *Client) Opens(ctx context.Context, key string) (o wire.Opens, err error) {
	return o, c.do(ctx, "GET", "/opens", url.Values{"key": {key}}, nil, &o)
}

// SetPrivatePrint says what the fingerprint of a key's private half is: "SHA1:" and hex.
func (c *Client) SetPrivatePrint(ctx context.Context, key, text string) (k wire.Key, err error) {
	return k, c.do(ctx, "PUT", "/keys/"+url.PathEscape(key)+"/private-print", nil, wire.PrivatePrint{Fingerprint: text}, &k)
}

// Sightings returns what surveys saw that the query (instance, region, tag, user, key, holder,
// fingerprint, there, recorded) chooses.
func (c *Client) Sightings(ctx context.Context, query url.Values) ([]wire.Sighted, error) {
	return all[wire.Sighted](ctx, c, "/sightings", query)
}

// RecordAccess writes down that a key that a survey found opens an instance:
// by its fingerprint, or the name of a recorded key. name is for one that is
// not recorded yet; user may be "".
func (c *Client) RecordAccess(ctx context.Context, instance, key, user, name string) (k wire.Key, err error) {
	return k, c.do(ctx, "POST", instancePath(instance, "record-access"), nil,
		map[string]string{"fingerprint": key, "user": user, "name": name}, &k)
}

// Probing says whether the service may ask an instance from outside by itself.
func (c *Client) Probing(ctx context.Context, name string, allowed bool) (i wire.Instance, err error) {
	return i, c.do(ctx, "POST", instancePath(name, "probing"), nil, map[string]bool{"allowed": allowed}, &i)
}

// Timeline returns what happened at an instance ("instances"), or to a key ("keys").
func (c *Client) Timeline(ctx context.Context, what, name string) ([]wire.TimelineEvent, error) {
	return all[wire.TimelineEvent](ctx, c, "/"+what+"/"+url.PathEscape(name)+"/timeline", nil)
}

// Discover asks the cloud for its list, and says how the ledger's differs.
func (c *Client) Discover(ctx context.Context) (d wire.Discovery, err error) {
	return d, c.do(ctx, "POST", "/discovery", nil, nil, &d)
}

// AdoptFound begins to adopt an instance from the cloud's list.
func (c *Client) AdoptFound(ctx context.Context, a wire.FoundAdoption) (i wire.Instance, err error) {
	return i, c.once(ctx, "POST", "/discovery/adoptions", a, &i)
}

// Link says which of the cloud's instances an adopted one is.
func (c *Client) Link(ctx context.Context, name, cloudID string) (i wire.Instance, err error) {
	return i, c.do(ctx, "POST", instancePath(name, "link"), nil, wire.CloudLink{CloudID: cloudID}, &i)
}

// BadDay takes a key into a state, and says what follows.
func (c *Client) BadDay(ctx context.Context, name string, r wire.KeyBadDay) (f wire.Follows, err error) {
	return f, c.do(ctx, "POST", "/keys/"+url.PathEscape(name)+"/bad-day", nil, r, &f)
}

// HolderLeft records that a holder left, and says what follows for each key.
func (c *Client) HolderLeft(ctx context.Context, name string, plan bool) ([]wire.Follows, error) {
	var page wire.List[wire.Follows]
	err := c.do(ctx, "POST", "/holders/"+url.PathEscape(name)+"/left", nil, wire.HolderLeft{Plan: plan}, &page)
	return page.Items, err
}

// ChangeHolder puts a holder into a team, or takes the holder out of one.
func (c *Client) ChangeHolder(ctx context.Context, name string, change wire.HolderChange) error {
	return c.do(ctx, "PATCH", "/holders/"+url.PathEscape(name), nil, change, nil)
}

// Today returns what needs a hand, at most limit of it, most urgent first.
func (c *Client) Today(ctx context.Context, query url.Values, limit int) (out wire.Today, err error) {
	query.Set("limit", strconv.Itoa(min(limit, 500)))
	for {
		var page wire.Today
		if err := c.do(ctx, "GET", "/today", query, nil, &page); err != nil {
			return out, err
		}
		page.Items = append(out.Items, page.Items...)
		out = page
		if page.NextCursor == "" || len(out.Items) >= limit {
			out.Items = out.Items[:min(limit, len(out.Items))]
			return out, nil
		}
		query.Set("cursor", page.NextCursor)
	}
}

// TodaySeen notes that all that there was at a time has been seen.
func (c *Client) TodaySeen(ctx context.Context, upTo time.Time) error {
	return c.do(ctx, "POST", "/today/seen", nil, map[string]time.Time{"up_to": upTo}, nil)
}

// PutOff puts a matter off until a time, or takes it up again (nil).
func (c *Client) PutOff(ctx context.Context, id int64, r wire.PutOff) (m wire.Matter, err error) {
	return m, c.do(ctx, "POST", "/today/"+strconv.FormatInt(id, 10)+"/off", nil, r, &m)
}

// Policy returns the policy that holds.
func (c *Client) Policy(ctx context.Context) (p wire.Policy, err error) {
	return p, c.do(ctx, "GET", "/policy", nil, nil, &p)
}

// SetPolicy sets the policy, or, with check, only says whether it could be.
func (c *Client) SetPolicy(ctx context.Context, text string, check bool) error {
	return c.do(ctx, "PUT", "/policy", url.Values{"check": {strconv.FormatBool(check)}}, wire.Policy{Text: text}, nil)
}

// maxExport is the greatest journal that is read, in bytes.
const maxExport = 64 << 30

// Export reads the whole journal, line by line. An export that breaks off is an error.
func (c *Client) Export(ctx context.Context, use func(line []byte, l journal.Line) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	silent := time.AfterFunc(quietLimit, cancel)
	defer silent.Stop()
	req, err := c.request(ctx, "GET", "/journal/export", nil, "", nil)
	if err != nil {
		return err
	}
	stream := *c.http // the whole of it may take longer than an answer may
	stream.Timeout = 0
	resp, err := stream.Do(req)
	if err != nil {
		return &Unreachable{c.url, err}
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return c.problem(resp)
	}
	r := bufio.NewReaderSize(lively{resp.Body, silent}, maxLine)
	for total := int64(0); ; {
		line, err := r.ReadSlice('\n')
		if errors.Is(err, io.EOF) && len(line) == 0 {
			return nil
		}
		if err != nil {
			return fmt.Errorf("the export broke off: %w", err)
		}
		if total += int64(len(line)); total > maxExport {
			return ErrEndless
		}
		var l journal.Line
		if err := json.Unmarshal(line, &l); err != nil {
			return errors.New("a line of the export cannot be read")
		}
		if err := use(line, l); err != nil {
			return err
		}
	}
}

// VerifyJournal has the service verify the journal itself.
func (c *Client) VerifyJournal(ctx context.Context) (check wire.JournalCheck, err error) {
	return check, c.do(ctx, "POST", "/journal/verify", nil, nil, &check)
}

// JournalChecked tells the service what verifying came to.
func (c *Client) JournalChecked(ctx context.Context, check wire.JournalCheck) (out wire.JournalCheck, err error) {
	return out, c.do(ctx, "POST", "/journal/checks", nil, check, &out)
}

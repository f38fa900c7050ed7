package standin

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"maps"
	"net"
	"net/http"
	"slices"
)

// Handler returns the cloud's HTTP interface. Every request needs
// "Authorization: Bearer" with the token. Bodies are JSON in snake_case; a
// failure is {"error": text} with 400, 401, 404, 409 or 500. What changes
// something takes a client token; again with the same one it does nothing more.
//
//	GET    /v1/regions, /v1/images?region=R, /v1/sizes?region=R
//	GET    /v1/instances?region=R
//	GET    /v1/instances?client_token=T     what was launched with it, or 404
//	POST   /v1/instances                    a Launch
//	GET    /v1/instances/{id}
//	DELETE /v1/instances/{id}?client_token=T
//	POST   /v1/instances/{id}/stop, /start  {"client_token": T}
//	GET    /v1/instances/{id}/boot-output   text/plain
//	GET    /v1/instances/{id}/groups        its groups of inbound rules
//	POST   /v1/instances/{id}/own-group     {"client_token": T}
//	POST   /v1/instances/{id}/door          {"is": "open", "closed", "silent", "other" or "none"}
//	POST   /v1/instances/{id}/odds          an Odds, until it is stopped
//	GET    /v1/instances/{id}/seen          its file of keys after each change, while it is watched
//	POST   /v1/instances/{id}/nature        a Nature
//	GET    /v1/instances/{id}/user-data     text/plain
//	POST   /v1/instances/{id}/user-data     {"client_token": T, "text": text}
//	GET    /v1/instances/{id}/volumes       those attached to it
//	GET    /v1/volumes/{id}
//	POST   /v1/volumes/{id}/detach          {"client_token": T, "note": text}
//	POST   /v1/volumes/{id}/attach          {"client_token": T, "instance": ID, "device": D or "", "note": text}
//	POST   /v1/volumes/{id}/disk            a Disk, for tests
//	GET    /v1/key-entries?region=R         the list of keys of a region, and how many it holds
//	POST   /v1/key-entries                  {"client_token": T, "region": R, "name": N, "public_key": line}
//	DELETE /v1/key-entries/{id}
//	GET    /v1/instances/{id}/placed-keys   what its agent places there
//	POST   /v1/placed-keys                  {"client_token": T, "instance": ID or "", "user": U, "name": N, "public_key": line}
//	DELETE /v1/placed-keys/{id}
//	POST   /v1/instances/{id}/lend          {"client_token": T, "user": U, "public_key": line}, for a while
//	GET    /v1/own-images?region=R          images that were made from instances
//	GET    /v1/own-images/{id}
//	POST   /v1/own-images                   {"client_token": T, "instance": ID, "name": N, "tags": {...}}
//	DELETE /v1/own-images/{id}
//	GET    /v1/terms                        prices, and how long changes take
//	POST   /v1/groups/{id}/rules            {"client_token": T, "from": CIDR, "note": text}
//	DELETE /v1/groups/{id}/rules/{rule}?client_token=T
//	GET    /v1/addresses?region=R           static addresses
//	POST   /v1/addresses                    {"client_token": T, "region": R, "name": N}
//	POST   /v1/addresses/{id}/move          {"client_token": T, "instance": ID or ""}
//	DELETE /v1/addresses/{id}?client_token=T
//	GET    /v1/caller                       the address that asks; needs no token
//	POST   /v1/faults                       a Fault, for calls to come
//	GET    /v1/faults                       those that no call has met yet
//	DELETE /v1/faults?name=N                those of one instance; all without a name
func (c *Cloud) Handler(token string) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /v1/regions", func(w http.ResponseWriter, r *http.Request) { reply(w, Regions, nil) })
	mux.HandleFunc("GET /v1/images", func(w http.ResponseWriter, r *http.Request) {
		reply(w, inRegion(Images, r, func(i Image) []string { return i.Regions }), nil)
	})
	mux.HandleFunc("GET /v1/sizes", func(w http.ResponseWriter, r *http.Request) {
		reply(w, inRegion(Sizes, r, func(s Size) []string { return s.Regions }), nil)
	})
	mux.HandleFunc("GET /v1/instances", func(w http.ResponseWriter, r *http.Request) {
		if t := r.URL.Query().Get("client_token"); t != "" {
			c.perform(w, "by-token", nil, func() (any, error) { return c.ByToken(t) })
			return
		}
		c.perform(w, "list", nil, func() (any, error) { return c.List(r.URL.Query().Get("region")), nil })
	})
	mux.HandleFunc("POST /v1/instances", func(w http.ResponseWriter, r *http.Request) {
		var l Launch
		if !decode(w, r, &l) {
			return
		}
		c.perform(w, "launch", called(l.Name, l.Tags), func() (any, error) { return c.Launch(l) })
	})
	mux.HandleFunc("GET /v1/instances/{id}", func(w http.ResponseWriter, r *http.Request) {
		id := r.PathValue("id")
		c.perform(w, "get", c.calledBy(id), func() (any, error) { return c.Get(id) })
	})
	mux.HandleFunc("DELETE /v1/instances/{id}", func(w http.ResponseWriter, r *http.Request) {
		id, token := r.PathValue("id"), r.URL.Query().Get("client_token")
		c.perform(w, "remove", c.calledBy(id), func() (any, error) { return c.Remove(token, id) })
	})
	for call, f := range map[string]func(token, id string) (Instance, error){"stop": c.Stop, "start": c.Start} {
		mux.HandleFunc("POST /v1/instances/{id}/"+call, func(w http.ResponseWriter, r *http.Request) {
			var body struct {
				ClientToken string `json:"client_token"`
			}
			if !decode(w, r, &body) {
				return
			}
			id := r.PathValue("id")
			c.perform(w, call, c.calledBy(id), func() (any, error) { return f(body.ClientToken, id) })
		})
	}
	mux.HandleFunc("GET /v1/instances/{id}/boot-output", func(w http.ResponseWriter, r *http.Request) {
		id := r.PathValue("id")
		c.perform(w, "boot-output", c.calledBy(id), func() (any, error) { return c.BootOutput(r.Context(), id) })
	})
	c.handleRules(mux)
	c.handleVolumes(mux)
	c.handleKeyEntries(mux)
	c.handlePlaced(mux)
	c.handleOwnImages(mux)
	mux.HandleFunc("GET /v1/faults", func(w http.ResponseWriter, _ *http.Request) { reply(w, c.faults.left(), nil) })
	mux.HandleFunc("POST /v1/faults", func(w http.ResponseWriter, r *http.Request) {
		var f Fault
		if decode(w, r, &f) {
			reply(w, f, c.faults.add(f))
		}
	})
	mux.HandleFunc("POST /v1/instances/{id}/odds", func(w http.ResponseWriter, r *http.Request) {
		var o Odds
		if decode(w, r, &o) {
			reply(w, o, c.SetOdds(r.PathValue("id"), o))
		}
	})
	mux.HandleFunc("GET /v1/instances/{id}/seen", func(w http.ResponseWriter, r *http.Request) {
		seen, err := c.Seen(r.PathValue("id"))
		reply(w, seen, err)
	})
	mux.HandleFunc("DELETE /v1/faults", func(w http.ResponseWriter, r *http.Request) {
		c.faults.clear(r.URL.Query().Get("name"))
		reply(w, struct{}{}, nil)
	})
	want := sha256.Sum256([]byte("Bearer " + token))
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/v1/caller" { // as clouds tell anybody
			host, _, _ := net.SplitHostPort(r.RemoteAddr)
			reply(w, host+"\n", nil)
			return
		}
		got := sha256.Sum256([]byte(r.Header.Get("Authorization")))
		if subtle.ConstantTimeCompare(got[:], want[:]) != 1 {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusUnauthorized)
			_ = json.NewEncoder(w).Encode(map[string]string{"error": "give the stand-in's token"})
			return
		}
		mux.ServeHTTP(w, r)
	})
}

func inRegion[T any](all []T, r *http.Request, regions func(T) []string) []T {
	region := r.URL.Query().Get("region")
	out := []T{}
	for _, x := range all {
		if region == "" || slices.Contains(regions(x), region) {
			out = append(out, x)
		}
	}
	return out
}

func decode(w http.ResponseWriter, r *http.Request, into any) bool {
	d := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10))
	d.DisallowUnknownFields()
	if d.Decode(into) != nil {
		reply(w, nil, ErrInvalid)
		return false
	}
	return true
}

func (c *Cloud) nameOf(id string) string {
	in, _ := c.Get(id)
	return in.Name
}

// calledBy are the names by which faults mean an instance.
func (c *Cloud) calledBy(id string) []string {
	in, _ := c.Get(id)
	return called(in.Name, in.Tags)
}

func called(name string, tags map[string]string) []string {
	return append(slices.Collect(maps.Values(tags)), name)
}

// perform does a call, with the fault that it meets, and answers it.
func (c *Cloud) perform(w http.ResponseWriter, call string, names []string, do func() (any, error)) {
	fault, _ := c.faults.take(call, names...)
	switch fault.How {
	case "fail":
		reply(w, nil, errors.New("the cloud has an ill day"))
		return
	case "late":
		go func() {
			fault.wait()
			_, _ = do()
		}()
		panic(http.ErrAbortHandler)
	case "hang":
		fault.wait()
		panic(http.ErrAbortHandler)
	case "slow":
		fault.wait()
	case "twice":
		_, _ = do()
	}
	v, err := do()
	if fault.How == "lose" {
		panic(http.ErrAbortHandler) // the connection breaks
	}
	reply(w, v, err)
}

func reply(w http.ResponseWriter, v any, err error) {
	if text, ok := v.(string); ok && err == nil {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		_, _ = w.Write([]byte(text))
		return
	}
	w.Header().Set("Content-Type", "application/json")
	if err != nil {
		status := http.StatusInternalServerError
		switch {
		case errors.Is(err, ErrNotFound):
			status = http.StatusNotFound
		case errors.Is(err, ErrInvalid):
			status = http.StatusBadRequest
		case errors.Is(err, ErrRights):
			status = http.StatusForbidden
		case errors.Is(err, ErrState), errors.Is(err, ErrToken):
			status = http.StatusConflict
		}
		w.WriteHeader(status)
		v = map[string]string{"error": err.Error()}
	}
	_ = json.NewEncoder(w).Encode(v)
}

package standin

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"net/http"
)

// Handler returns the cloud's HTTP interface. Every request needs
// "Authorization: Bearer" with the token. Bodies are JSON in snake_case; a
// failure is {"error": text} with 400, 401, 404, 409 or 500.
//
//	GET    /v1/regions, /v1/images?region=R, /v1/sizes?region=R
//	GET    /v1/instances?region=R
//	POST   /v1/instances                    a Launch
//	GET    /v1/instances/{id}
//	DELETE /v1/instances/{id}
//	POST   /v1/instances/{id}/stop, /start
//	GET    /v1/instances/{id}/boot-output   text/plain
func (c *Cloud) Handler(token string) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /v1/regions", func(w http.ResponseWriter, r *http.Request) { reply(w, Regions, nil) })
	mux.HandleFunc("GET /v1/images", func(w http.ResponseWriter, r *http.Request) { reply(w, Images, nil) })
	mux.HandleFunc("GET /v1/sizes", func(w http.ResponseWriter, r *http.Request) { reply(w, Sizes, nil) })
	mux.HandleFunc("GET /v1/instances", func(w http.ResponseWriter, r *http.Request) {
		reply(w, c.List(r.URL.Query().Get("region")), nil)
	})
	mux.HandleFunc("POST /v1/instances", func(w http.ResponseWriter, r *http.Request) {
		var l Launch
		d := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10))
		d.DisallowUnknownFields()
		if d.Decode(&l) != nil {
			reply(w, nil, ErrInvalid)
			return
		}
		in, err := c.Launch(l)
		reply(w, in, err)
	})
	for method, f := range map[string]func(string) (Instance, error){
		"GET /v1/instances/{id}": c.Get, "DELETE /v1/instances/{id}": c.Remove,
		"POST /v1/instances/{id}/stop": c.Stop, "POST /v1/instances/{id}/start": c.Start,
	} {
		mux.HandleFunc(method, func(w http.ResponseWriter, r *http.Request) {
			in, err := f(r.PathValue("id"))
			reply(w, in, err)
		})
	}
	mux.HandleFunc("GET /v1/instances/{id}/boot-output", func(w http.ResponseWriter, r *http.Request) {
		text, err := c.BootOutput(r.Context(), r.PathValue("id"))
		if err != nil {
			reply(w, nil, err)
			return
		}
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		_, _ = w.Write([]byte(text))
	})
	want := sha256.Sum256([]byte("Bearer " + token))
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
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

func reply(w http.ResponseWriter, v any, err error) {
	w.Header().Set("Content-Type", "application/json")
	if err != nil {
		status := http.StatusInternalServerError
		switch {
		case errors.Is(err, ErrNotFound):
			status = http.StatusNotFound
		case errors.Is(err, ErrInvalid):
			status = http.StatusBadRequest
		case errors.Is(err, ErrState), errors.Is(err, ErrToken):
			status = http.StatusConflict
		}
		w.WriteHeader(status)
		v = map[string]string{"error": err.Error()}
	}
	_ = json.NewEncoder(w).Encode(v)
}

package standin

import "net/http"

// handleVolumes serves volumes, user data, and what is particular about an instance.
func (c *Cloud) handleVolumes(mux *http.ServeMux) {
	type body struct {
		ClientToken string `json:"client_token"`
		Instance    string `json:"instance"`
		Device      string `json:"device"`
		Note        string `json:"note"`
		Text        string `json:"text"`
	}
	mux.HandleFunc("GET /v1/terms", func(w http.ResponseWriter, _ *http.Request) { reply(w, c.Terms(), nil) })
	mux.HandleFunc("GET /v1/instances/{id}/volumes", func(w http.ResponseWriter, r *http.Request) {
		id := r.PathValue("id")
		c.perform(w, "volumes", c.calledBy(id), func() (any, error) { return c.Volumes(id) })
	})
	mux.HandleFunc("GET /v1/instances/{id}/user-data", func(w http.ResponseWriter, r *http.Request) {
		id := r.PathValue("id")
		c.perform(w, "user-data", c.calledBy(id), func() (any, error) { return c.UserData(id) })
	})
	mux.HandleFunc("GET /v1/volumes/{id}", func(w http.ResponseWriter, r *http.Request) {
		id := r.PathValue("id")
		c.perform(w, "volume", []string{c.nameOfVolume(id)}, func() (any, error) { return c.Volume(id) })
	})
	for pattern, call := range map[string]string{"/v1/volumes/{id}/detach": "detach",
		"/v1/volumes/{id}/attach": "attach", "/v1/instances/{id}/user-data": "set-user-data"} {
		mux.HandleFunc("POST "+pattern, func(w http.ResponseWriter, r *http.Request) {
			var b body
			if !decode(w, r, &b) {
				return
			}
			id := r.PathValue("id")
			name := c.nameOfVolume(id)
			if call == "set-user-data" {
				name = c.nameOf(id)
			}
			c.perform(w, call, []string{name}, func() (any, error) {
				switch call {
				case "detach":
					return c.Detach(b.ClientToken, id, b.Note)
				case "attach":
					return c.Attach(b.ClientToken, id, b.Instance, b.Device, b.Note)
				}
				return struct{}{}, c.SetUserData(b.ClientToken, id, b.Text)
			})
		})
	}
	mux.HandleFunc("POST /v1/volumes/{id}/disk", func(w http.ResponseWriter, r *http.Request) {
		var d Disk
		if decode(w, r, &d) {
			v, err := c.SetDisk(r.PathValue("id"), d)
			reply(w, v, err)
		}
	})
	mux.HandleFunc("POST /v1/instances/{id}/nature", func(w http.ResponseWriter, r *http.Request) {
		var n Nature
		if decode(w, r, &n) {
			in, err := c.SetNature(r.PathValue("id"), n)
			reply(w, in, err)
		}
	})
}

// nameOfVolume is the name of the instance that a volume was made for: faults know it by that.
func (c *Cloud) nameOfVolume(id string) string {
	v, _ := c.Volume(id)
	return c.nameOf(v.Origin)
}

package standin

import "net/http"

// handleRules serves inbound rules and static addresses.
func (c *Cloud) handleRules(mux *http.ServeMux) {
	type body struct {
		ClientToken string   `json:"client_token"`
		From        string   `json:"from"`
		Ports       string   `json:"ports"`
		Note        string   `json:"note"`
		Region      string   `json:"region"`
		Name        string   `json:"name"`
		Instance    string   `json:"instance"`
		Is          string   `json:"is"`
		Groups      []string `json:"groups"`
		Open        bool     `json:"open"`
	}
	post := func(pattern, call string, f func(id string, b body) (any, error)) {
		mux.HandleFunc("POST "+pattern, func(w http.ResponseWriter, r *http.Request) {
			var b body
			if decode(w, r, &b) {
				id := r.PathValue("id")
				names := []string{b.Name}
				if b.Name == "" {
					names = append(c.calledBy(id), c.ownersOf(id)...)
				}
				c.perform(w, call, names, func() (any, error) { return f(id, b) })
			}
		})
	}
	mux.HandleFunc("GET /v1/instances/{id}/groups", func(w http.ResponseWriter, r *http.Request) {
		id := r.PathValue("id")
		c.perform(w, "groups", c.calledBy(id), func() (any, error) { return c.Groups(id) })
	})
	mux.HandleFunc("GET /v1/addresses", func(w http.ResponseWriter, r *http.Request) {
		c.perform(w, "addresses", nil, func() (any, error) { return c.Addresses(r.URL.Query().Get("region")), nil })
	})
	post("/v1/instances/{id}/own-group", "own-group",
		func(id string, b body) (any, error) { return c.OwnGroup(b.ClientToken, id) })
	post("/v1/instances/{id}/groups", "set-groups",
		func(id string, b body) (any, error) { return struct{}{}, c.SetGroups(b.ClientToken, id, b.Groups) })
	post("/v1/instances/{id}/outbound", "outbound",
		func(id string, b body) (any, error) { return struct{}{}, c.SetOutbound(b.ClientToken, id, b.Open) })
	mux.HandleFunc("GET /v1/sent", func(w http.ResponseWriter, _ *http.Request) {
		c.perform(w, "sent", nil, func() (any, error) { return c.SentMail(), nil })
	})
	post("/v1/instances/{id}/door", "door", func(id string, b body) (any, error) { return c.SetDoor(id, b.Is) })
	post("/v1/groups/{id}/rules", "admit", func(id string, b body) (any, error) {
		return c.Admit(b.ClientToken, id, Rule{From: b.From, Ports: b.Ports, Note: b.Note})
	})
	post("/v1/addresses", "reserve", func(_ string, b body) (any,
		error) {
		return c.Reserve(b.ClientToken, b.Region, b.Name)
	})
	post("/v1/addresses/{id}/move", "move",
		func(id string, b body) (any, error) { return c.Move(b.ClientToken, id, b.Instance) })
	mux.HandleFunc("DELETE /v1/groups/{id}/rules/{rule}", func(w http.ResponseWriter, r *http.Request) {
		c.perform(w, "unadmit", c.ownersOf(r.PathValue("id")), func() (any, error) {
			return struct{}{}, c.Unadmit(r.URL.Query().Get("client_token"), r.PathValue("id"), r.PathValue("rule"))
		})
	})
	mux.HandleFunc("DELETE /v1/addresses/{id}", func(w http.ResponseWriter, r *http.Request) {
		c.perform(w, "release", c.ownersOf(r.PathValue("id")), func() (any, error) {
			return struct{}{}, c.Release(r.URL.Query().Get("client_token"), r.PathValue("id"))
		})
	})
}

// ownersOf are the names that faults know a thing by: an instance's, those of the instance that a group is the own of (what it was made from
// stands in its tags), a static address's.
func (c *Cloud) ownersOf(id string) []string {
	if c.nameOf(id) != "" {
		return c.calledBy(id)
	}
	c.mu.Lock()
	own, static := "", ""
	if g := c.groups[id]; g != nil {
		own = g.Own
	}
	if a := c.static[id]; a != nil {
		static = a.Name
	}
	c.mu.Unlock()
	if static != "" {
		return []string{static}
	}
	return c.calledBy(own)
}

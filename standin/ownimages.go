package standin

import (
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"
)

// The states of an image that was made from an instance.
const (
	ImageMaking = "making"
	ImageReady  = "ready"
)

// maxOwnImages is how many images of its own the account may have.
const maxOwnImages = 20

// OwnImage is an image that was made from an instance. It has what the instance's root volume had as it was asked for: of one
// that ran, what its processes had not written yet is not on it.
type OwnImage struct {
	ID       string            `json:"id"`
	Name     string            `json:"name"`
	Instance string            `json:"instance"` // that it was made from
	Image    string            `json:"image"`    // that the instance was launched from
	Region   string            `json:"region"`
	GB       int               `json:"gb"`
	State    string            `json:"state"`
	Ran      bool              `json:"ran"` // the instance ran meanwhile
	Tags     map[string]string `json:"tags"`
	Created  time.Time         `json:"created"`
}

// storedOwn is an image as it is kept.
type storedOwn struct {
	OwnImage
	Tokens []string `json:"tokens"`
}

func (i *storedOwn) folder() string { return "images/" + i.ID }

// MakeImage makes an image of an instance's root volume. It takes a pace, and one more for each ten GiB.
func (c *Cloud) MakeImage(token, instance, name string, tags map[string]string) (OwnImage, error) {
	if token == "" || name == "" || len(name) > 100 || len(tags) > maxTags {
		return OwnImage{}, fmt.Errorf("%w: a client token, a name of at most 100 bytes, and at most %d tags", ErrInvalid, maxTags)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, i := range c.own {
		if slices.Contains(i.Tokens, token) {
			return i.OwnImage, nil
		}
	}
	if slices.Contains(c.unlisted, token) {
		return OwnImage{}, ErrNotFound
	}
	in, ok := c.instances[instance]
	v := c.rootOf(instance)
	switch {
	case !ok || in.State == Removed:
		return OwnImage{}, ErrNotFound
	case in.State != Running && in.State != Stopped:
		return OwnImage{}, fmt.Errorf("%w: the instance is %s", ErrState, in.State)
	case v == nil:
		return OwnImage{}, fmt.Errorf("%w: no root volume is attached to it", ErrState)
	case slices.Contains(in.Nature.MissingRights, "images"):
		return OwnImage{}, fmt.Errorf("%w: make images of %s", ErrRights, in.Name)
	case len(c.own) >= maxOwnImages:
		return OwnImage{}, fmt.Errorf("%w: the account has %d images, and may have no more", ErrState, len(c.own))
	}
	c.serial++
	i := &storedOwn{OwnImage: OwnImage{ID: fmt.Sprintf("cast-%05d", c.serial), Name: name, Instance: in.ID, Image: in.Image,
		Region: in.Region, GB: v.SizeGB, State: ImageMaking, Ran: in.State == Running, Tags: tags, Created: c.opts.Now().UTC()},
		Tokens: []string{token}}
	if err := c.copyTree(v.folder(), i.folder()); err != nil {
		return OwnImage{}, err
	}
	c.own[i.ID] = i
	if _, never := c.faults.take("image-state", in.Name); !never {
		c.imageReady(i.ID, 1+i.GB/10)
	}
	return i.OwnImage, c.save()
}

// imageReady ends the making of an image after so many paces; the caller holds mu.
func (c *Cloud) imageReady(id string, paces int) {
	c.after(func() error {
		i, ok := c.own[id]
		switch {
		case !ok:
			return nil
		case paces > 1:
			c.imageReady(id, paces-1)
			return nil
		}
		i.State = ImageReady
		return c.save()
	})
}

// OwnImages returns those of a region, all with "", by ID.
func (c *Cloud) OwnImages(region string) []OwnImage {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := []OwnImage{}
	for _, i := range c.own {
		if region == "" || i.Region == region {
			out = append(out, i.OwnImage)
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].ID < out[j].ID })
	return out
}

// OwnImage returns one, or ErrNotFound.
func (c *Cloud) OwnImage(id string) (OwnImage, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	i, ok := c.own[id]
	if !ok {
		return OwnImage{}, ErrNotFound
	}
	return i.OwnImage, nil
}

// RemoveImage removes one; one that is gone is no error.
func (c *Cloud) RemoveImage(id string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	i, ok := c.own[id]
	if !ok {
		return nil
	}
	delete(c.own, id)
	c.unlisted = append(c.unlisted, i.Tokens...)
	return errors.Join(c.root.RemoveAll(i.folder()), c.save())
}

// baseOf is the image of the catalogue that a launch's image is, or was made from.
func (c *Cloud) baseOf(l Launch) (string, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	i, ok := c.own[l.Image]
	switch {
	case !ok:
		return l.Image, nil
	case i.State != ImageReady:
		return "", fmt.Errorf("%w: the image is still being made", ErrState)
	case i.Region != l.Region:
		return "", fmt.Errorf("%w: the image is in %s", ErrInvalid, i.Region)
	}
	return i.Image, nil
}

// copyTree copies a folder, with its modes and links.
func (c *Cloud) copyTree(from, to string) error {
	source, target := filepath.Join(c.opts.Folder, from), filepath.Join(c.opts.Folder, to)
	return filepath.WalkDir(source, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rest, err := filepath.Rel(source, name)
		if err != nil {
			return err
		}
		out := filepath.Join(target, rest)
		info, err := d.Info()
		if err != nil {
			return err
		}
		switch {
		case d.IsDir():
			if err := os.MkdirAll(out, 0o700); err != nil {
				return err
			}
			return os.Chmod(out, info.Mode().Perm())
		case info.Mode()&fs.ModeSymlink != 0:
			link, err := os.Readlink(name)
			if err != nil {
				return err
			}
			return os.Symlink(link, out)
		case info.Mode().IsRegular():
			data, err := os.ReadFile(name)
			if err != nil {
				return err
			}
			return errors.Join(os.WriteFile(out, data, 0o600), os.Chmod(out, info.Mode().Perm()))
		}
		return nil
	})
}

// newIdentity has a copy of an instance make anew what first boot makes anew by the cloud's ID: its host keys and its name.
func (c *Cloud) newIdentity(in *stored) error {
	root := diskName(in.ID)
	dir, err := fs.ReadDir(c.root.FS(), root+"/etc/ssh")
	if err != nil {
		return err
	}
	for _, e := range dir {
		if strings.HasPrefix(e.Name(), "ssh_host_") {
			if err := c.root.Remove(root + "/etc/ssh/" + e.Name()); err != nil {
				return err
			}
		}
	}
	return c.writeFile(root+"/etc/hostname", in.Name+"\n", 0o644)
}

// imageCalledBy are the names by which faults mean an image.
func (c *Cloud) imageCalledBy(id string) []string {
	i, _ := c.OwnImage(id)
	return append(called(i.Name, i.Tags), id)
}

// handleOwnImages serves the account's own images.
func (c *Cloud) handleOwnImages(mux *http.ServeMux) {
	mux.HandleFunc("GET /v1/own-images", func(w http.ResponseWriter, r *http.Request) {
		c.perform(w, "own-images", nil, func() (any, error) { return c.OwnImages(r.FormValue("region")), nil })
	})
	mux.HandleFunc("GET /v1/own-images/{id}", func(w http.ResponseWriter, r *http.Request) {
		id := r.PathValue("id")
		c.perform(w, "own-image", c.imageCalledBy(id), func() (any, error) { return c.OwnImage(id) })
	})
	mux.HandleFunc("POST /v1/own-images", func(w http.ResponseWriter, r *http.Request) {
		var b struct {
			ClientToken string            `json:"client_token"`
			Instance    string            `json:"instance"`
			Name        string            `json:"name"`
			Tags        map[string]string `json:"tags"`
		}
		if decode(w, r, &b) {
			c.perform(w, "make-image", c.calledBy(b.Instance), func() (any, error) {
				return c.MakeImage(b.ClientToken, b.Instance, b.Name, b.Tags)
			})
		}
	})
	mux.HandleFunc("DELETE /v1/own-images/{id}", func(w http.ResponseWriter, r *http.Request) {
		id := r.PathValue("id")
		c.perform(w, "remove-image", c.imageCalledBy(id), func() (any, error) { return struct{}{}, c.RemoveImage(id) })
	})
}

package libvirt

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/core/plaintext"
	"plumlatch/service/cloud"
)

// An image of an instance is a volume with all that its root volume held at one moment. Copying takes its time, which no call waits for: it
// goes on behind MakeImage, and whoever asks for the image later is told when it is done. What is known of an image stands in a small volume
// beside it, as JSON. Where the service was stopped in the middle, the next question begins the copy anew.

// made is what is known of an image.
type made struct {
	Name      string            `json:"name"`
	Instance  string            `json:"instance"`
	LoginUser string            `json:"login_user"`
	GB        int               `json:"gb"`
	Tags      map[string]string `json:"tags,omitempty"`
	Ready     bool              `json:"ready"`
	Ran       bool              `json:"ran"`
	Asks      bool              `json:"asks,omitempty"`
}

// madeSize is how large the volume with that is, in bytes: it is written anew in its place.
const madeSize = 32 << 10

// copyLimit bounds the copying of a root volume.
const copyLimit = time.Hour

// copyPerGB is how long a GiB usually takes.
const copyPerGB = 5 * time.Second

const imagePrefix = "image-"

// imageOf is the ID of the image that a client token makes.
func imageOf(token string) string { return imagePrefix + uuidOf("image "+token) }

func isImage(id string) bool { return strings.HasPrefix(id, imagePrefix) }

func imageName(id string) string { return "plumlatch-" + id + ".qcow2" }
func madeName(id string) string  { return "plumlatch-" + id + ".json" }

// image reads what is known of an image. ErrNotFound.
func (l *link) image(id string) (m made, err error) {
	if !isImage(id) {
		return m, cloud.ErrNotFound
	}
	path, _, err := l.volume(madeName(id))
	if err != nil {
		return m, err
	}
	text, err := tail(path, madeSize)
	if err != nil {
		return m, err
	}
	if err := json.Unmarshal(bytes.TrimRight(text, "\x00"), &m); err != nil {
		return m, fmt.Errorf("%w: what is known of %s cannot be read: %w", cloud.ErrFailed, id, err)
	}
	return m, nil
}

// keepImage writes it. Nothing in it is secret, and the service must be able to read it in a folder of the system's.
func (l *link) keepImage(id string, m made) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	if len(text) > madeSize {
		return refused("the tags of image %s are too many", id)
	}
	name := madeName(id)
	if _, err := l.makeVolume(name, fmt.Sprintf("<volume><name>%s</name><capacity>%d</capacity><target><format type='raw'/><permissions><mode>0644</mode></permissions></target></volume>",
		name, madeSize)); err != nil {
		return err
	}
	return l.fill(name, append(text, make([]byte, madeSize-len(text))...))
}

func (m made) show(id string, h Host) cloud.OwnImage {
	return cloud.OwnImage{ID: id, Name: m.Name, Instance: m.Instance, Region: h.Region, GB: m.GB, Ready: m.Ready, Ran: m.Ran, Tags: m.Tags}
}

// MakeImage begins to make an image of an instance's root volume, as it is or as it runs.
func (d *Driver) MakeImage(ctx context.Context, clientToken, id, name string, tags map[string]string) (out cloud.OwnImage, err error) {
	image := imageOf(clientToken)
	err = d.on(ctx, id, func(o *ours) error {
		if o.a == nil {
			return refused("%s was made by somebody else; no image is made of it", plaintext.Line(plaintext.Cut(o.m.Name, 100)))
		}
		if _, _, err := o.link.volume(goneName(image)); err == nil {
			return refused("the image %s was removed", image)
		} else if !errors.Is(err, cloud.ErrNotFound) {
			return err
		}
		m, err := o.link.image(image)
		if errors.Is(err, cloud.ErrNotFound) {
			if root, ok := o.m.at(rootDevice); !ok || root.file() != rootName(id) {
				return refused("%s has no root volume", o.a.Name)
			}
			m = made{Name: name, Instance: id, LoginUser: o.a.LoginUser, GB: o.a.DiskGB, Tags: tags, Ran: o.running && !o.paused, Asks: o.a.Asks}
			err = o.link.keepImage(image, m)
		}
		if err != nil {
			return err
		}
		out = m.show(image, o.h)
		if !m.Ready {
			d.copy(o.h, image, m)
		}
		return nil
	})
	return out, err
}

// copy begins to copy a root volume into an image, unless that goes on already.
func (d *Driver) copy(h Host, image string, m made) {
	d.copies.Lock()
	defer d.copies.Unlock()
	if d.copying == nil {
		d.copying = map[string]bool{}
	}
	if d.copying[image] {
		return
	}
	d.copying[image] = true
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), copyLimit)
		defer cancel()
		err := with(ctx, h, func(l *link) error { return l.copyRoot(ctx, image, m) })
		d.copies.Lock()
		defer d.copies.Unlock()
		delete(d.copying, image)
		if d.copyFailed == nil {
			d.copyFailed = map[string]error{}
		}
		d.copyFailed[image] = err
	}()
}

// copyRoot copies it. What an earlier try has left is taken away first.
func (l *link) copyRoot(ctx context.Context, image string, m made) error {
	x, err := l.lookup(m.Instance)
	if err != nil {
		return err
	}
	if err := l.endBackup(x, imageName(image)); err != nil {
		return err
	}
	is, err := parse(cmp.Or(x.live, x.xml))
	if err != nil {
		return err
	}
	if root, ok := is.at(rootDevice); !ok || root.file() != rootName(m.Instance) {
		return refused("%s has no root volume any more", m.Instance)
	}
	name := imageName(image)
	if err := l.removeVolume(name); err != nil {
		return err
	}
	_, bytes, err := l.volume(rootName(m.Instance))
	if err != nil {
		return err
	}
	volume := fmt.Sprintf("<volume><name>%s</name><capacity>%d</capacity><target><format type='qcow2'/></target></volume>", name, bytes)
	if m.Ran = x.running && !x.paused; m.Ran {
		if _, err := l.makeVolume(name, volume); err != nil {
			return err
		}
		path, _, err := l.volume(name)
		if err != nil {
			return err
		}
		if err := l.backup(ctx, x, backupXML(is, path)); err != nil {
			return err
		}
	} else if err := l.cloneVolume(volume, rootName(m.Instance)); err != nil {
		return err
	}
	m.Ready = true
	return l.keepImage(image, m)
}

// backupXML is what libvirt is asked to copy of a running machine: its root, and nothing else that it has.
func backupXML(m machine, path string) string {
	var disks strings.Builder
	for _, d := range m.Disks {
		if d.Target.Dev != rootDevice {
			fmt.Fprintf(&disks, "<disk name='%s' backup='no'/>", esc(d.Target.Dev))
		}
	}
	return fmt.Sprintf("<domainbackup mode='push'><disks><disk name='%s' backup='yes' type='file'><driver type='qcow2'/><target file='%s'/></disk>%s</disks></domainbackup>",
		rootDevice, esc(path), disks.String())
}

// imageOn looks an image up, on whichever host it is.
func (d *Driver) imageOn(ctx context.Context, id string, f func(*link, Host, made) error) error {
	if !isImage(id) {
		return cloud.ErrNotFound
	}
	for _, h := range d.c.Hosts {
		err := with(ctx, h, func(l *link) error {
			m, err := l.image(id)
			if err != nil {
				return err
			}
			return f(l, h, m)
		})
		if !errors.Is(err, cloud.ErrNotFound) {
			return err
		}
	}
	return cloud.ErrNotFound
}

// OwnImage returns one. A copy that failed is told once, and begun anew by the next question.
func (d *Driver) OwnImage(ctx context.Context, id string) (out cloud.OwnImage, err error) {
	err = d.imageOn(ctx, id, func(l *link, h Host, m made) error {
		out = m.show(id, h)
		if m.Ready {
			return nil
		}
		d.copies.Lock()
		failed := d.copyFailed[id]
		delete(d.copyFailed, id)
		d.copies.Unlock()
		if failed != nil {
			return failed
		}
		d.copy(h, id, m)
		return nil
	})
	return out, err
}

// OwnImages returns those of a region, or all with "".
func (d *Driver) OwnImages(ctx context.Context, region string) (out []cloud.OwnImage, err error) {
	for _, h := range d.c.Hosts {
		if region != "" && h.Region != region {
			continue
		}
		if err := with(ctx, h, func(l *link) error {
			all, err := l.volumes()
			if err != nil {
				return err
			}
			slices.Sort(all)
			for _, name := range all {
				id, ok := strings.CutSuffix(strings.TrimPrefix(name, "plumlatch-"), ".json")
				if !ok || !isImage(id) {
					continue
				}
				m, err := l.image(id)
				if errors.Is(err, cloud.ErrNotFound) {
					continue // gone meanwhile
				}
				if err != nil {
					return err
				}
				out = append(out, m.show(id, h))
			}
			return nil
		}); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// RemoveImage removes one. The volumes of machines that were launched from it lead to its own: that stays until the last of them is removed.
func (d *Driver) RemoveImage(ctx context.Context, clientToken, id string) error {
	err := d.imageOn(ctx, id, func(l *link, h Host, m made) error {
		d.copies.Lock()
		busy := d.copying[id]
		d.copies.Unlock()
		if busy {
			return fmt.Errorf("%w: the image %s is still being made", cloud.ErrFailed, id)
		}
		if _, err := l.makeVolume(goneName(id), goneXML(id)); err != nil {
			return err
		}
		if err := l.dropImage(id, ""); err != nil {
			return err
		}
		return l.removeVolume(madeName(id))
	})
	if errors.Is(err, cloud.ErrNotFound) {
		return nil
	}
	return err
}

// dropImage removes the volume of an image if no machine but one was launched from it.
func (l *link) dropImage(id, but string) error {
	used := false
	if err := l.each(func(m machine, a *about) error {
		used = used || a.Image == id && m.UUID != but
		return nil
	}); err != nil || used {
		return err
	}
	return l.removeVolume(imageName(id))
}

// imageFor is what a launch begins from: one of the configuration's images, or one that was made of an instance.
func (d *Driver) imageFor(l *link, name string) (Image, error) {
	if i, ok := d.c.image(name); ok {
		return i, nil
	}
	m, err := l.image(name)
	if errors.Is(err, cloud.ErrNotFound) {
		return Image{}, refused("there is no image %q", plaintext.Line(plaintext.Cut(name, 60)))
	}
	if err == nil && !m.Ready {
		err = refused("the image %s is still being made", name)
	}
	return Image{Name: name, Volume: imageName(name), LoginUser: m.LoginUser, DiskGB: m.GB, Size: d.c.Sizes[0].Name, Asks: m.Asks}, err
}

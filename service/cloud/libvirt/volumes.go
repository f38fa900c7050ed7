package libvirt

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"plumlatch/core/plaintext"
	"plumlatch/service/cloud"
)

// Volumes returns the root volume of an instance and whatever else is attached to it; its seed is not told of.
func (d *Driver) Volumes(ctx context.Context, id string) (out []cloud.Volume, err error) {
	err = d.on(ctx, id, func(o *ours) error {
		m, err := parse(cmp.Or(o.live, o.xml))
		if err != nil {
			return err
		}
		for _, x := range m.Disks {
			if x.Device != "disk" || x.Target.Dev == seedDevice {
				continue
			}
			v := cloud.Volume{ID: x.file(), Zone: zone, Instance: o.m.UUID, Device: x.Target.Dev, State: cloud.VolumeInUse}
			if home, ok := homeOf(v.ID); ok {
				if err := o.known(&v, home); err != nil {
					return err
				}
			}
			out = append(out, v)
		}
		return nil
	})
	return out, err
}

// known fills in what the home of a root volume knows of it.
func (l *link) known(v *cloud.Volume, home string) error {
	x, err := l.lookup(home)
	if errors.Is(err, cloud.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	m, err := parse(x.xml)
	if err != nil || m.Metadata.About == nil {
		return err
	}
	a := m.Metadata.About
	v.SizeGB, v.Note = a.DiskGB, a.Note
	if a.Leaving != "" && a.Leaving == v.Instance {
		v.State = cloud.VolumeDetaching
	}
	return nil
}

// holder is the domain that has a volume, as it runs or else as it is defined.
func (l *link) holder(volume string) (domain, machine, string, error) {
	all, err := l.domains()
	if err != nil {
		return domain{}, machine{}, "", err
	}
	for _, x := range all {
		m, err := parse(cmp.Or(x.live, x.xml))
		if err != nil {
			return domain{}, machine{}, "", err
		}
		if device, ok := m.has(volume); ok {
			return x, m, device, nil
		}
	}
	return domain{}, machine{}, "", nil
}

// root is a root volume, where it is now.
type root struct {
	*ours         // its home
	at     domain // that has it
	holder machine
	device string
}

// volume looks a root volume up. Others of the pool are not ours.
func (d *Driver) volume(ctx context.Context, volumeID string, f func(*root) error) error {
	home, ok := homeOf(volumeID)
	if !ok {
		return cloud.ErrNotFound
	}
	return d.on(ctx, home, func(o *ours) error {
		if o.a == nil {
			return cloud.ErrNotFound
		}
		if _, _, err := o.link.volume(volumeID); err != nil {
			return err
		}
		r := &root{ours: o}
		var err error
		if r.at, r.holder, r.device, err = o.holder(volumeID); err != nil {
			return err
		}
		return f(r)
	})
}

func (r *root) show(volumeID string) cloud.Volume {
	v := cloud.Volume{ID: volumeID, Zone: zone, SizeGB: r.a.DiskGB, State: cloud.VolumeAvailable, Note: r.a.Note}
	if r.device != "" {
		v.State, v.Instance, v.Device = cloud.VolumeInUse, r.holder.UUID, r.device
		if r.a.Leaving == r.holder.UUID {
			v.State = cloud.VolumeDetaching
		}
	}
	return v
}

// Volume returns one root volume.
func (d *Driver) Volume(ctx context.Context, volumeID string) (v cloud.Volume, err error) {
	err = d.volume(ctx, volumeID, func(r *root) error {
		v = r.show(volumeID)
		return nil
	})
	return v, err
}

// Detach takes a root volume from its stopped instance, or from a machine that it was lent to, also while that runs. libvirt
// would pull it from under its own instance too: that is refused.
func (d *Driver) Detach(ctx context.Context, clientToken, volumeID, note string) (v cloud.Volume, err error) {
	err = d.volume(ctx, volumeID, func(r *root) error {
		if r.a.done(clientToken) || r.device == "" {
			v = r.show(volumeID)
			return nil
		}
		if r.at.running && r.holder.UUID == r.m.UUID {
			return refused("%s runs from it; stop it first", r.a.Name)
		}
		if r.holder.Metadata.About == nil {
			return refused("it is at %s, which is not ours", plaintext.Line(plaintext.Cut(r.holder.Name, 100)))
		}
		path, _, err := r.link.volume(volumeID)
		if err != nil {
			return err
		}
		r.a.Note, r.a.Leaving = note, r.holder.UUID
		if err := r.keep(clientToken); err != nil {
			return err
		}
		if err := r.link.detach(r.at, diskXML(path, r.device, serialOf(r.m.UUID))); err != nil {
			return err
		}
		if err := r.moved(volumeID); err != nil {
			return err
		}
		v = r.show(volumeID)
		return nil
	})
	return v, err
}

// moved reads anew where the volume is.
func (r *root) moved(volumeID string) (err error) {
	if err = r.again(); err == nil {
		r.at, r.holder, r.device, err = r.link.holder(volumeID)
	}
	return err
}

// Attach gives a root volume that nobody has to an instance: home again under its device, or lent to a machine that runs.
func (d *Driver) Attach(ctx context.Context, clientToken, volumeID, id, device, note string) (v cloud.Volume, err error) {
	err = d.volume(ctx, volumeID, func(r *root) error {
		if r.a.done(clientToken) {
			v = r.show(volumeID)
			return nil
		}
		if r.device != "" {
			return refused("it is at %s", plaintext.Line(plaintext.Cut(r.holder.Name, 100)))
		}
		x, err := r.lookup(id)
		if err != nil {
			return err
		}
		m, err := parse(cmp.Or(x.live, x.xml))
		if err != nil {
			return err
		}
		if m.Metadata.About == nil {
			return refused("%s was made by somebody else; it is not for this service to change", plaintext.Line(plaintext.Cut(m.Name, 100)))
		}
		if device = cmp.Or(device, freeDevice(m)); !slices.Contains(devices, device) {
			return refused("there is no device %q", plaintext.Line(plaintext.Cut(device, 20)))
		}
		if _, taken := m.at(device); taken {
			return refused("%s has another volume at %s", plaintext.Line(plaintext.Cut(m.Name, 100)), device)
		}
		if x.running && device == rootDevice {
			return refused("%s runs; a root volume is given to a machine that is stopped", plaintext.Line(plaintext.Cut(m.Name, 100)))
		}
		path, _, err := r.link.volume(volumeID)
		if err != nil {
			return err
		}
		r.a.Note, r.a.Leaving = note, ""
		if err := r.keep(clientToken); err != nil {
			return err
		}
		if err := r.link.attach(x, diskXML(path, device, serialOf(r.m.UUID))); err != nil {
			return err
		}
		if err := r.moved(volumeID); err != nil {
			return err
		}
		v = r.show(volumeID)
		return nil
	})
	return v, err
}

// devices are the names under which a volume can be attached; the last of them are left to seeds.
var devices = func() (out []string) {
	for c := 'a'; c <= 'y'; c++ {
		out = append(out, fmt.Sprintf("vd%c", c))
	}
	return out
}()

// freeDevice is the first device name after the root's that a machine has not taken; "" for none.
func freeDevice(m machine) string {
	for _, name := range devices[1:] {
		if _, taken := m.at(name); !taken {
			return name
		}
	}
	return ""
}

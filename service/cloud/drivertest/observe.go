package drivertest

import (
	"errors"
	"fmt"
	"testing"

	"plumlatch/service/cloud"
)

// Seen is what a cloud did in one case, in words that are the same for all clouds.
type Seen struct{ Case, Did string }

// Observe has a cloud go through a table of cases, and says what it did in each: what cloud.Driver leaves open, and what a stand-in could have been
// given wrongly. It judges nothing.
func Observe(t *testing.T, d cloud.Driver, o Options) (out []Seen) {
	t.Helper()
	s := &suite{d: d, o: o}
	see := func(what string, did any) {
		t.Helper()
		t.Logf("%s: %v", what, did)
		out = append(out, Seen{what, fmt.Sprint(did)})
	}
	word := func(err error) string {
		switch {
		case err == nil:
			return "done"
		case errors.Is(err, cloud.ErrRefused):
			return "refused"
		case errors.Is(err, cloud.ErrNotFound):
			return "not found"
		}
		return "failed: " + err.Error()
	}
	do := func(call func(string) error) string { return word(call(token())) }
	in, rescue := s.launched(t), s.launched(t)
	root := in.RootVolume
	stop := func(id string) {
		t.Helper()
		if _, err := d.Stop(t.Context(), token(), id); err != nil {
			t.Fatal(err)
		}
		s.await(t, id, cloud.Stopped)
	}
	detach := func() {
		t.Helper()
		if _, err := d.Detach(t.Context(), token(), root, "observed"); err != nil {
			t.Fatal(err)
		}
		s.awaitVolume(t, root, cloud.VolumeAvailable)
	}
	lend := func() cloud.Volume {
		t.Helper()
		if _, err := d.Attach(t.Context(), token(), root, rescue.ID, "", "observed"); err != nil {
			t.Fatal(err)
		}
		return s.awaitVolume(t, root, cloud.VolumeInUse)
	}
	takeBack := func() {
		t.Helper()
		if o.NoSystem { // a machine without a system does not let go of what it was lent
			stop(rescue.ID)
		}
		detach()
	}

	see("the root volume's device", in.RootDevice)
	see("start one that runs", do(func(k string) error { _, err := d.Start(t.Context(), k, in.ID); return err }))
	see("detach the root of one that runs", do(func(k string) error { _, err := d.Detach(t.Context(), k, root, ""); return err }))
	see("change user data of one that runs", do(func(k string) error { return d.SetUserData(t.Context(), k, in.ID, "#cloud-config\n{}\n") }))
	text, err := d.UserData(t.Context(), in.ID)
	see("and it is read back", err == nil && text == "#cloud-config\n{}\n")
	see("launch another of the same name", do(func(k string) error {
		l := s.launch(k)
		l.Name = in.Name
		twin, err := d.Launch(t.Context(), k, l)
		if err == nil {
			s.await(t, twin.ID, cloud.Running)
			_, err = d.Remove(t.Context(), token(), twin.ID)
		}
		return err
	}))

	asked, err := d.Stop(t.Context(), token(), in.ID)
	if err != nil {
		t.Fatal(err)
	}
	see("right after it is asked to stop", asked.State == cloud.Stopping || asked.State == cloud.Stopped)
	stopped := s.await(t, in.ID, cloud.Stopped)
	see("stop one that is stopped", do(func(k string) error { _, err := d.Stop(t.Context(), k, in.ID); return err }))
	see("its address is static", stopped.Static)
	see("its address while it is stopped", map[bool]string{true: "the same", false: "another, or none"}[stopped.Address == in.Address])
	see("attach to another what is still attached", do(func(k string) error { _, err := d.Attach(t.Context(), k, root, rescue.ID, "", ""); return err }))
	detach()
	see("detach what nobody has", do(func(k string) error { _, err := d.Detach(t.Context(), k, root, ""); return err }))
	see("start one without its root", do(func(k string) error { _, err := d.Start(t.Context(), k, in.ID); return err }))
	see("attach under a device that is taken", do(func(k string) error {
		_, err := d.Attach(t.Context(), k, root, rescue.ID, rescue.RootDevice, "")
		return err
	}))
	see("attach to one that is not there", do(func(k string) error { _, err := d.Attach(t.Context(), k, root, "no-such-instance", "", ""); return err }))
	v := lend()
	see("the device of a volume that is lent, unasked", map[bool]string{true: "the second", false: v.Device}[v.Device != "" && v.Device != rescue.RootDevice])
	all, err := d.Volumes(t.Context(), rescue.ID)
	see("volumes of a machine with one that is lent", fmt.Sprint(len(all), " ", word(err)))
	takeBack()
	if o.NoSystem {
		if _, err := d.Start(t.Context(), token(), rescue.ID); err != nil {
			t.Fatal(err)
		}
		s.await(t, rescue.ID, cloud.Running)
	}
	see("bring it home under its device", do(func(k string) error { _, err := d.Attach(t.Context(), k, root, in.ID, in.RootDevice, ""); return err }))
	s.awaitVolume(t, root, cloud.VolumeInUse)
	see("start it", do(func(k string) error { _, err := d.Start(t.Context(), k, in.ID); return err }))
	now := s.await(t, in.ID, cloud.Running)
	see("its address after that, where the cloud calls it static", !now.Static || now.Address == in.Address)
	twin := s.launched(t)
	see("remove one that runs", do(func(k string) error { _, err := d.Remove(t.Context(), k, twin.ID); return err }))
	s.await(t, twin.ID, cloud.Removed)
	_, err = d.Volume(t.Context(), twin.RootVolume)
	see("its root volume is then", word(err))
	stop(in.ID)
	detach()
	lend()
	see("remove an instance whose root is lent", do(func(k string) error { _, err := d.Remove(t.Context(), k, in.ID); return err }))
	v, err = d.Volume(t.Context(), root)
	see("the volume is then", word(err)+" "+string(v.State))
	takeBack()
	return out
}

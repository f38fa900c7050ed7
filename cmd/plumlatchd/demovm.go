package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"plumlatch/client"
	"plumlatch/core/wire"
	"plumlatch/service/cloud/libvirt/ownhost"
)

// Real machines beside the stand-in's: a libvirtd of the demo's own, and two machines on it.

// vmAddresses are the loopback addresses at which the demo's real machines are reached.
const vmAddresses = "127.32.0.0/24"

// vmMachines are the demo's real machines.
var vmMachines = []string{"ticket-office-1", "ticket-office-2"}

// vmGrace is how long the machines may take to stop before their power is cut.
const vmGrace = 40 * time.Second

// startHost starts the libvirtd, and says where its configuration for the service is. It runs as an ordinary user: as whoever runs the
// demo, and for root as nobody.
func (d *demoRun) startHost(ctx context.Context) (file string, err error) {
	owner, err := ownhost.Ordinary()
	if err == nil && owner != nil { // it finds its own folder in there, and reads no other
		err = os.Chmod(d.folder, 0o711)
	}
	if err != nil {
		return "", err
	}
	if d.host, err = ownhost.New(d.path("vm"), owner); err != nil {
		return "", err
	}
	const image = "debian-12.qcow2"
	if _, err := os.Stat(d.path("vm", "pool", image)); errors.Is(err, os.ErrNotExist) { // machines may stand on the one that is there
		if err := d.host.AddImage(ctx, image, d.vm); err != nil {
			return "", fmt.Errorf("%w; \"make vm-images\" makes the image", err)
		}
	}
	if err := d.host.Start(ctx); err != nil {
		return "", err
	}
	if err := d.host.StartMachines(ctx); err != nil {
		return "", err
	}
	file = d.path("libvirt.yaml")
	return file, os.WriteFile(file, fmt.Appendf(nil, `# Written by the demo at each start. docs/libvirt.md says what it means.
hosts:
  - {region: ticket-office, title: The machine under the ticket office, socket: %q, pool: %s, addresses: %s}
images:
  - {name: debian-12, title: Debian 12, volume: %s, login_user: debian, disk_gb: 2}
sizes:
  - {name: small, cpus: 1, memory_mb: 512, disk_gb: 3}
boot: 10m
`, d.host.Socket, ownhost.Pool, vmAddresses, image), 0o600)
}

// launchVMs launches the machines that are not there yet. It does not wait until they have booted: emulated, that takes minutes.
func (d *demoRun) launchVMs(ctx context.Context) error {
	c, err := d.client()
	if err != nil {
		return err
	}
	for _, name := range vmMachines {
		_, err := c.Instance(ctx, name)
		if p, ok := errors.AsType[*client.Problem](err); ok && p.Status == 404 {
			_, err = c.Launch(ctx, wire.Launch{Name: name, Region: "ticket-office", Image: "debian-12", Size: "small", Keys: []string{vmKey}})
		}
		if err != nil {
			return fmt.Errorf("instance %s: %w", name, err)
		}
	}
	fmt.Printf("Two real machines boot on a libvirtd of the demo's own, below %s: plumlatch instance list -region ticket-office\n", relative(filepath.Join(d.folder, "vm")))
	return nil
}

// vmKey opens them: Maria's, of the demo's people.
const vmKey = "harbour-ops-2026"

// stopHost stops the machines as their power button does, and then the libvirtd.
func (d *demoRun) stopHost() error {
	if d.host == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), vmGrace+30*time.Second)
	defer cancel()
	err := d.host.StopMachines(ctx, vmGrace)
	d.host.Stop(syscall.SIGTERM)
	return errors.Join(err, d.host.Close())
}

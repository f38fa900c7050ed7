package standin

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"time"
)

// What an instance does at each boot, as far as others can see it: jobs that send something, and what Linux shows of what runs,
// listens and is mounted.

// bootJob is a file on an instance: if it is there, a job sends its content somewhere at each boot.
const bootJob = "etc/board-jobs/mail"

// maxSent is how much of what was sent is kept.
const maxSent = 1000

// Sent is something that a job of an instance has sent.
type Sent struct {
	Instance string    `json:"instance"`
	Text     string    `json:"text"`
	At       time.Time `json:"at"`
}

// SentMail returns what the instances' jobs have sent since the stand-in began.
func (c *Cloud) SentMail() []Sent {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.sent)
}

// bootJobs runs the jobs of an instance that boots, and writes what it shows of itself; the caller holds mu.
func (c *Cloud) bootJobs(in *stored) error {
	root := diskName(in.ID)
	if v := c.rootOf(in.ID); v != nil {
		root = v.folder()
	}
	text, err := c.root.ReadFile(root + "/" + bootJob)
	if err == nil && !in.Shut && len(c.sent) < maxSent {
		c.sent = append(c.sent, Sent{in.ID, string(text), c.opts.Now().UTC()})
	}
	return c.showUnits(in)
}

// showUnits writes what an instance shows of what runs, listens and is mounted; the caller holds mu.
func (c *Cloud) showUnits(in *stored) error {
	root := diskName(in.ID)
	if v := c.rootOf(in.ID); v != nil {
		root = v.folder()
	}
	image, _ := imageByName(in.Image)
	units, ports, wanted := []string{"ssh"}, []int{in.Port}, []string{"ssh"}
	there := func(name string) bool { _, err := c.root.Stat(root + "/" + name); return err == nil }
	if image.Service && there(serviceEnabled) {
		wanted = append(wanted, "board-service")
	}
	if image.Service && (there(serviceEnabled) || !there(serviceSeen)) {
		units, ports = append(units, "board-service"), append(ports, servicePort)
	}
	const slice, wants = "sys/fs/cgroup/system.slice", "etc/systemd/system/multi-user.target.wants"
	files := map[string]string{}
	for _, u := range units {
		files[slice+"/"+u+".service/cgroup.procs"] = "1\n"
	}
	for _, u := range wanted {
		files[wants+"/"+u+".service"] = ""
	}
	// proc(5), /proc/net/tcp: addresses as the kernel holds them, in hexadecimal.
	table := "  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode\n"
	for n, p := range ports {
		table += fmt.Sprintf("%4d: 00000000:%04X 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 %d 1\n", n, p, 100+n)
	}
	files["proc/net/tcp"] = table
	files["proc/mounts"] = "/dev/vda1 / ext4 rw,relatime 0 0\nproc /proc proc rw 0 0\n"
	for _, dir := range []string{slice, wants} {
		if err := c.root.RemoveAll(root + "/" + dir); err != nil {
			return err
		}
	}
	for name, text := range files {
		err := c.root.MkdirAll(root+"/"+path.Dir(name), 0o755)
		if err := errors.Join(err, c.writeFile(root+"/"+name, text, 0o644)); err != nil {
			return err
		}
	}
	return nil
}

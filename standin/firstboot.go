package standin

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"mime/multipart"
	"net/mail"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"plumlatch/core/authkeys"
	"plumlatch/core/hostkeys"
	"plumlatch/core/keypair"
	"plumlatch/standin/shell"
	"plumlatch/standin/tree"
)

// cloudID is where cloud-init keeps which instance it is.
const cloudID = "var/lib/cloud/data/instance-id"

const hostKeyFile = "etc/ssh/ssh_host_ed25519_key"

// makeDisk makes the root volume from the image, unless it stands already.
func (c *Cloud) makeDisk(in *stored) error {
	root := diskName(in.ID)
	if _, err := c.root.Stat(root + "/etc/passwd"); err == nil {
		return nil
	}
	if in.From != "" {
		i, ok := c.own[in.From]
		if !ok {
			return fmt.Errorf("%w: image %s", ErrNotFound, in.From)
		}
		if err := c.copyTree(i.folder(), root); err != nil {
			return err
		}
		if _, keeps := c.faults.take("host-keys", called(in.Name, in.Tags)...); keeps {
			return nil
		}
		return errors.Join(c.newIdentity(in), c.makeIdentity(in))
	}
	home := "home/" + in.LoginUser
	for _, dir := range []struct {
		name string
		mode fs.FileMode
	}{{"etc/ssh/sshd_config.d", 0o755}, {"root/.ssh", 0o700}, {home, 0o755}, {"tmp", 0o777}, {"var/log", 0o755},
		{"bin", 0o755}, {"usr/lib/openssh", 0o755}, {"run", 0o755}, {"mnt", 0o755}} {
		name := root + "/" + dir.name
		if err := c.root.MkdirAll(name, 0o755); err != nil {
			return err
		}
		if err := c.root.Chmod(name, dir.mode); err != nil { // the umask took some of it
			return err
		}
	}
	// The shell itself is the stand-in's own; that it is there can be seen.
	if err := errors.Join(c.writeFile(root+"/bin/sh", "", 0o755), c.writeFile(root+sftpServer, "", 0o755)); err != nil {
		return err
	}
	image, _ := imageByName(in.Image)
	if image.Agent {
		if err := errors.Join(c.root.MkdirAll(root+"/"+path.Dir(agentProgram), 0o755), c.writeFile(root+"/"+agentProgram, "", 0o755)); err != nil {
			return err
		}
	}
	if image.Service {
		if err := errors.Join(c.root.MkdirAll(root+"/"+path.Dir(serviceEnabled), 0o755),
			c.writeFile(root+"/"+serviceEnabled, "", 0o644)); err != nil {
			return err
		}
	}
	for name, text := range map[string]string{
		"etc/hostname":          in.Name + "\n",
		"etc/group":             fmt.Sprintf("root:x:0:\n%[1]s:x:1000:\n", in.LoginUser),
		"etc/os-release":        fmt.Sprintf("PRETTY_NAME=%q\nID=%s\n", image.Title, image.Name),
		"etc/ssh/sshd_config":   "Include /etc/ssh/sshd_config.d/*.conf\nUsePAM yes\nSubsystem sftp internal-sftp\n",
		home + "/.profile":      "# ~/.profile of " + in.LoginUser + "\n",
		"etc/passwd":            fmt.Sprintf("root:x:0:0:root:/root:/bin/sh\n%[1]s:x:1000:1000::/home/%[1]s:/bin/sh\n", in.LoginUser),
		"var/log/boot-messages": "kernel: Linux (stand-in)\n",
	} {
		if err := c.writeFile(root+"/"+name, text, 0o644); err != nil {
			return err
		}
	}
	return c.makeIdentity(in)
}

// makeIdentity makes what only one machine may have: its host keys, and its machine-id, if it has none: a copy by image keeps the one that the image
// carries (machine-id(5)), as real machines do.
func (c *Cloud) makeIdentity(in *stored) error {
	root := diskName(in.ID)
	pair, err := keypair.Create(keypair.Ed25519, "root@"+in.Name)
	if err != nil {
		return err
	}
	private, err := pair.OpenSSH(nil)
	if err != nil {
		return err
	}
	if text, err := c.root.ReadFile(root + "/etc/machine-id"); err != nil || len(text) == 0 {
		id := make([]byte, 16)
		_, _ = rand.Read(id) // it never fails
		if err := c.writeFile(root+"/etc/machine-id", hex.EncodeToString(id)+"\n", 0o444); err != nil {
			return err
		}
	}
	return errors.Join(
		c.writeFile(root+"/"+hostKeyFile, string(private), 0o600),
		c.writeFile(root+"/"+hostKeyFile+".pub", pair.Public.Line()+"\n", 0o644),
	)
}

func (c *Cloud) writeFile(name, text string, mode fs.FileMode) error {
	if err := c.root.WriteFile(name, []byte(text), mode); err != nil {
		return err
	}
	return c.root.Chmod(name, mode)
}

// cloudConfig is as much of "#cloud-config" as the stand-in's first boot knows.
type cloudConfig struct {
	Hostname    string        `yaml:"hostname"`
	Keys        []string      `yaml:"ssh_authorized_keys"`
	Users       yaml.Node     `yaml:"users"`
	PasswordSSH any           `yaml:"ssh_pwauth"`
	DisableRoot *bool         `yaml:"disable_root"`
	Files       []writtenFile `yaml:"write_files"`
}

type cloudUser struct {
	Name string   `yaml:"name"`
	Keys []string `yaml:"ssh_authorized_keys"`
}

// firstBoot does what cloud-init does with user data at the first boot, so far
// as it is modelled, and writes the console.
func (c *Cloud) firstBoot(in *stored) error {
	root := diskName(in.ID)
	var console strings.Builder
	fmt.Fprintf(&console, "[    0.000000] stand-in kernel, instance %s\n[    0.812000] root volume mounted\n", in.ID)
	image, _ := imageByName(in.Image)
	// As cloud-init does, at each boot: a copy has another one than its original.
	if err := errors.Join(c.root.MkdirAll(root+"/"+path.Dir(cloudID), 0o755), c.writeFile(root+"/"+cloudID, in.ID+"\n", 0o644)); err != nil {
		return err
	}
	if image.FirstPassword && !in.FirstBoot {
		if err := c.givePassword(in, &console); err != nil {
			return err
		}
		in.FirstBoot = true
	}
	if !in.FirstBoot {
		cfg := readUserData(in.UserData, &console)
		if in.KeyLine != "" {
			cfg.Keys = append([]string{in.KeyLine}, cfg.Keys...)
		}
		if err := c.placeKeys(in, cfg, &console); err != nil {
			return err
		}
		if cfg.Hostname != "" {
			if err := c.writeFile(root+"/etc/hostname", cfg.Hostname+"\n", 0o644); err != nil {
				return err
			}
		}
		if err := errors.Join(c.writeFiles(in, cfg.Files, &console), c.enrollAgent(in, image, &console)); err != nil {
			return err
		}
		passwords := "yes"
		if cfg.PasswordSSH == false || cfg.PasswordSSH == "false" || cfg.PasswordSSH == "no" {
			passwords = "no"
		}
		if err := c.writeFile(root+"/etc/ssh/sshd_config.d/50-cloud-init.conf", "PasswordAuthentication "+passwords+
			"\n", 0o600); err != nil {
			return err
		}
		line, err := c.root.ReadFile(root + "/" + hostKeyFile + ".pub")
		if err != nil {
			return err
		}
		pub, err := keypair.ReadPublic(line)
		if err != nil {
			return err
		}
		block, err := hostkeys.FingerprintBlock(in.Name, [][]byte{pub.Blob})
		if err != nil {
			return err
		}
		for l := range strings.Lines(block) {
			console.WriteString("<14>cloud-init[412]: " + l)
		}
		in.FirstBoot = true
	}
	if !image.FirstPassword {
		c.bootText(in, &console)
	}
	fmt.Fprintf(&console, "cloud-init: finished, datasource stand-in\n\n%s login: ", in.Name)
	f, err := c.root.OpenFile(root+".console", os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(console.String())
	return errors.Join(err, f.Close())
}

// readUserData reads "#cloud-config", alone or as parts of a multi-part
// message, and merges the parts as cloud-init does: the first one to set a
// value wins, and a part whose merge_how says so adds to the lists.
func readUserData(text string, console *strings.Builder) cloudConfig {
	parts := []string{text}
	if message, err := mail.ReadMessage(strings.NewReader(text)); err == nil {
		if kind, params, err := mime.ParseMediaType(message.Header.Get("Content-Type")); err == nil &&
			strings.HasPrefix(kind, "multipart/") {
			parts = nil
			reader := multipart.NewReader(message.Body, params["boundary"])
			for {
				p, err := reader.NextPart()
				if err != nil {
					break
				}
				data, _ := io.ReadAll(p)
				if kind, _, _ := mime.ParseMediaType(p.Header.Get("Content-Type")); kind == "text/cloud-boothook" {
					continue // read at every boot
				}
				if kind, _, _ := mime.ParseMediaType(p.Header.Get("Content-Type")); kind != "text/cloud-config" {
					fmt.Fprintf(console, "cloud-init: a part of type %q is not modelled by the stand-in\n", kind)
					continue
				}
				parts = append(parts, string(data))
			}
		}
	}
	merged := map[string]any{}
	for _, p := range parts {
		if !strings.HasPrefix(p, "#cloud-config") {
			continue
		}
		var m map[string]any
		if err := yaml.Unmarshal([]byte(p), &m); err != nil {
			fmt.Fprintf(console, "cloud-init: failed to parse user data as cloud-config\n")
			continue
		}
		how, _ := yaml.Marshal(m["merge_how"])
		appends := strings.Contains(string(how), "append")
		for k, v := range m {
			before, has := merged[k]
			old, isList := before.([]any)
			more, both := v.([]any)
			switch {
			case !has:
				merged[k] = v
			case isList && both && appends:
				merged[k] = append(slices.Clone(old), more...)
			}
		}
	}
	var cfg cloudConfig
	if all, err := yaml.Marshal(merged); err != nil || yaml.Unmarshal(all, &cfg) != nil {
		fmt.Fprintf(console, "cloud-init: the user data does not make sense\n")
	}
	return cfg
}

// placeKeys gives the login user its keys, and puts the same into root's file
// with a forced command that says which user to use, as first boot commonly does.
func (c *Cloud) placeKeys(in *stored, cfg cloudConfig, console *strings.Builder) error {
	byUser := map[string][]string{}
	hasDefault := cfg.Users.Kind == 0
	for _, n := range cfg.Users.Content {
		var u cloudUser
		if n.Kind == yaml.ScalarNode {
			hasDefault = hasDefault || n.Value == "default"
		} else if err := n.Decode(&u); err == nil {
			if len(byUser[u.Name]) == 0 { // cloud-init keeps the first one's keys
				byUser[u.Name] = u.Keys
			}
		}
	}
	if hasDefault { // without it, top-level keys are nobody's
		byUser[in.LoginUser] = append(append([]string{}, cfg.Keys...), byUser[in.LoginUser]...)
	}
	for user, keys := range byUser {
		if user != in.LoginUser {
			fmt.Fprintf(console, "cloud-init: user %q is not modelled by the stand-in\n", user)
			continue
		}
		if len(keys) == 0 {
			continue
		}
		home := diskName(in.ID) + "/home/" + user
		if err := c.root.Mkdir(home+"/.ssh", 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		if err := c.addKeys(home+"/.ssh/authorized_keys", keys); err != nil {
			return err
		}
		if cfg.DisableRoot != nil && !*cfg.DisableRoot {
			continue
		}
		var forRoot strings.Builder
		for _, k := range keys {
			for _, l := range authkeys.Parse([]byte(k), time.UTC) {
				if p, err := keypair.FromBlob(l.Blob, l.Comment); l.Err == nil && err == nil {
					fmt.Fprintf(&forRoot,
						`no-port-forwarding,no-agent-forwarding,no-X11-forwarding,command="echo 'Log in as %s here, not as root.'; exit 142" %s`+"\n", user, p.Line())
				}
			}
		}
		if err := c.writeFile(diskName(in.ID)+"/root/.ssh/authorized_keys", forRoot.String(), 0o600); err != nil {
			return err
		}
	}
	return nil
}

const boothook = "#cloud-boothook"

// bootText runs the user data that is run at every boot, as root, before the SSH
// server comes up; what it prints is on the console.
func (c *Cloud) bootText(in *stored, console *strings.Builder) {
	script, ok := strings.CutPrefix(in.UserData, boothook)
	if !ok {
		return
	}
	root, err := os.OpenRoot(filepath.Join(c.opts.Folder, diskName(in.ID)))
	if err != nil {
		fmt.Fprintf(console, "cloud-init: %v\n", err)
		return
	}
	defer root.Close()
	var said strings.Builder
	sh, err := shell.New(shell.Host{Root: tree.New(root), Name: in.Name, User: "root", Home: "/root", Boot: in.Booted,
		Now: c.opts.Now}, strings.NewReader(""), &said, &said)
	if err == nil {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if status := sh.Run(ctx, script); status != 0 {
			fmt.Fprintf(&said, "the boot hook ended with %d\n", status)
		}
	}
	for l := range strings.Lines(said.String()) {
		console.WriteString("cloud-init[388]: " + strings.TrimSuffix(l, "\n") + "\n")
	}
}

// addKeys adds the lines that a file of keys does not have yet, as cloud-init does: a copy's file has those of its original.
func (c *Cloud) addKeys(name string, keys []string) error {
	old, err := c.root.ReadFile(name)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	text := string(old)
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	for _, k := range keys {
		if !slices.Contains(strings.Split(text, "\n"), k) {
			text += k + "\n"
		}
	}
	return c.writeFile(name, text, 0o600)
}

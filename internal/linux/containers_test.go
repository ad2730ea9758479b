//go:build linux

package linux_test

import (
	"maps"
	"os"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/family"
	"calmdawn/internal/linux"
	"calmdawn/internal/testtree"
)

// containers are files of which podman's generator makes units.
func containers() map[string]string {
	const (
		folder = "etc/containers/systemd/"
		boot   = "\n[Install]\nWantedBy=default.target\n"
		image  = "[Container]\nImage=reg/"
	)
	return map[string]string{
		"etc/passwd":     "root:x:0:0::/root:/bin/sh\nmaria:x:1000:1000::/home/maria:/bin/sh\n",
		"usr/bin/podman": "", "etc/machine-id": "11112222333344445555666677778888\n",
		"usr/lib/systemd/system/default.target":                     "[Unit]\n",
		"usr/lib/systemd/user/default.target":                       "[Unit]\n",
		"usr/lib/systemd/system-generators/podman-system-generator": "x",
		"usr/lib/systemd/user-generators/podman-user-generator":     "x",
		folder + "shop.container":                                   image + "shop:2\n" + boot,
		folder + "idle.container":                                   image + "idle\n",
		folder + "bare.container": "[Container]\nPull=never\n" +
			boot,
		folder + "added.container":                             image + "added\n",
		folder + "added.container.d/10.conf":                   strings.TrimPrefix(boot, "\n"),
		folder + "net.pod":                                     "[Pod]\nPodName=net\n" + boot,
		folder + "play.kube":                                   "[Kube]\nYaml=play.yml\n" + boot,
		folder + "disk.volume":                                 "[Volume]\n" + boot,
		"home/maria/.config/containers/systemd/mine.container": image + "mine\n" + boot,
		"etc/containers/systemd/users/1000/given.container":    image + "given\n" + boot,
		"etc/containers/systemd/users/1001/others.container":   image + "others\n" + boot,
		"usr/lib/systemd/system/shadow.service": "[Service]\n" +
			"ExecStart=/usr/bin/podman x\n",
		"usr/share/containers/systemd/shadow.container": image + "shadow\n" + boot,
	}
}

// TestGuestsOfDaemons finds what daemons start by themselves as the machine
// boots, and what they do not.
func TestGuestsOfDaemons(t *testing.T) {
	const (
		folder = "srv/docker/containers/"
		boot   = "etc/systemd/system/default.target.wants/"
		units  = "usr/lib/systemd/system/"
	)
	files := map[string]string{
		"etc/passwd": "root:x:0:0::/root:/bin/sh\n", "usr/bin/dockerd": "",
		"etc/docker/daemon.json":                   `{"data-root": "/srv/docker"}`,
		units + "default.target":                   "[Unit]\n",
		units + "docker.service":                   "[Service]\nExecStart=/usr/bin/dockerd\n",
		boot + "docker.service":                    "-> /" + units + "docker.service",
		units + "lxc.service":                      "[Service]\nExecStart=/usr/bin/dockerd\n",
		"etc/libvirt/qemu/autostart/mill.xml":      "<domain/>",
		"var/lib/lxc/oven/config":                  "lxc.start.auto = 1\n",
		"var/lib/lxc/cold/config":                  "lxc.start.auto = 0\n",
		"var/lib/lxd/database/global/db.bin":       "",
		folder + "0123456789abcdef/config.v2.json": "{broken",
	}
	for name, set := range map[string][2]string{
		"shop":    {"always", "true"},
		"ledger":  {"unless-stopped", "false"},
		"stopped": {"unless-stopped", "true"},
		"manual":  {"no", "false"},
		"retry":   {"on-failure", "false"},
	} {
		id := folder + name + "-id/"
		files[id+"config.v2.json"] = `{"Name":"/` + name + `","HasBeenManuallyStopped":` + set[1] +
			`,"Config":{"Image":"reg/` + name + `"}}`
		files[id+"hostconfig.json"] = `{"RestartPolicy":{"Name":"` + set[0] + `"}}`
	}
	const want = "docker/shop on, docker/ledger on, docker/stopped off, docker/manual off, " +
		"docker/retry off, docker/0123456789ab off, libvirt/mill off, lxc/oven off, lxc/cold off"
	ids := []string{
		"docker/shop", "docker/ledger", "docker/stopped", "docker/manual", "docker/retry",
		"docker/0123456789ab", "libvirt/mill", "lxc/oven", "lxc/cold",
	}
	r, dir := machineWith(t, files)
	inv := linux.Survey(r, family.Options{Now: time.Now()})
	if got := states(inv, ids...); got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	shop, _ := inv.Find("service:docker/shop")
	if !slices.Contains(shop.Because, "docker.service") || shop.Command != "reg/shop" ||
		!shop.Aside {
		t.Errorf("%+v", shop)
	}
	mill, _ := inv.Find("service:libvirt/mill")
	if !strings.Contains(mill.Why, "or virtqemud.service, which starts it, is not launched") {
		t.Errorf("mill: %q", mill.Why)
	}
	if err := inv.Turner(r.Draft(time.Now())).Turn(shop, item.Off, 0); err == nil ||
		!strings.Contains(err.Error(), "set up with docker") {
		t.Error(err)
	}
	if use := inv.Uses()["containers"]; !use.Any || !strings.Contains(use.Why, "ledger") {
		t.Errorf("%+v", use)
	}
	if len(inv.Remarks) != 1 || !strings.Contains(inv.Remarks[0].Reason, "LXD") {
		t.Errorf("%+v", inv.Remarks)
	}
	// without the daemon none of them starts
	ok(t, os.Remove(dir+"/"+boot+"docker.service"))
	inv = linux.Survey(r, family.Options{Now: time.Now()})
	if shop, _ := inv.Find("service:docker/shop"); shop.State != item.Off ||
		!strings.Contains(shop.Why, "docker.service, which starts it, is not launched") {
		t.Errorf("%+v", shop)
	}
}

// TestHooks finds what others call at some event, and where nobody does.
func TestHooks(t *testing.T) {
	const (
		boot  = "etc/systemd/system/default.target.wants/"
		units = "usr/lib/systemd/system/"
	)
	files := map[string]string{
		"etc/passwd": "root:x:0:0::/root:/bin/sh\n", "usr/bin/mill": "x",
		units + "default.target":                   "[Unit]\n",
		units + "NetworkManager.service":           "[Service]\nExecStart=/usr/bin/mill\n",
		boot + "NetworkManager.service":            "-> /" + units + "NetworkManager.service",
		"etc/NetworkManager/dispatcher.d/10-mill":  "#!/bin/sh\n",
		"etc/NetworkManager/dispatcher.d/20-plain": "#!/bin/sh\n",
		"etc/udev/rules.d/90-mill.rules": "ACTION==\"add\", " +
			"RUN+=\"/usr/bin/mill %k\"\n",
		"usr/lib/udev/rules.d/90-mill.rules": "RUN+=\"/usr/bin/hidden\"\n",
		"usr/lib/udev/rules.d/91-gone.rules": "RUN{program}+=\"gone x\"\n" +
			"# RUN+=\"/usr/bin/no\"\n",
		"etc/pam.d/login": "session optional pam_exec.so quiet " +
			"/usr/bin/mill in\nauth required pam_exec.so /usr/bin/mill\n",
		"var/spool/cron/atjobs/a0000101c2a3b4": "#!/bin/sh\ncd /root || {\n}\n" +
			"/usr/bin/mill later\n",
		"etc/initramfs-tools/scripts/init-top/splash": "#!/bin/sh\n",
	}
	r, dir := machineWith(t, files)
	for _, p := range []string{
		"etc/NetworkManager/dispatcher.d/10-mill", "etc/initramfs-tools/scripts/init-top/splash",
	} {
		ok(t, os.Chmod(path.Join(dir, p), 0o755))
	}
	inv := linux.Survey(r, family.Options{Now: time.Now()})
	found := map[string]string{}
	for _, it := range inv.Items {
		if it.Mechanism == "hook" {
			found[path.Base(it.File)+" "+it.Command] = string(it.State) + " " + string(it.When)
			err := inv.Turner(r.Draft(time.Now())).Turn(it, item.Off, 0)
			if err == nil || !it.Aside {
				t.Errorf("%s can be switched", it.ID)
			}
		}
	}
	want := map[string]string{
		"10-mill " + "/etc/NetworkManager/dispatcher.d/10-mill": "on later",
		"90-mill.rules /usr/bin/mill %k":                        "on later",
		"91-gone.rules /usr/lib/udev/gone x":                    "broken later",
		"login /usr/bin/mill in":                                "on login",
		"a0000101c2a3b4 /usr/bin/mill later":                    "off later",
		"splash /etc/initramfs-tools/scripts/init-top/splash":   "on boot",
	}
	if !maps.Equal(found, want) {
		t.Errorf("%q\nwant %q", found, want)
	}
}

func states(inv *linux.Inventory, ids ...string) string {
	var all []string
	for _, id := range ids {
		it, there := inv.Lookup("service:" + id)
		state := string(it.State)
		if !there {
			state = "none"
		}
		all = append(all, id+" "+state)
	}
	return strings.Join(all, ", ")
}

// TestContainersOfUnits finds what podman's generator makes units of, and
// switches one off and on: no file of it is touched.
func TestContainersOfUnits(t *testing.T) {
	r, dir := machineWith(t, containers())
	generators := dir + "/usr/lib/systemd/"
	for _, kind := range []string{"system", "user"} {
		ok(t, os.Chmod(generators+kind+"-generators/podman-"+kind+"-generator", 0o755))
	}
	now := time.Now()
	ids := []string{
		"shop.service", "idle.service", "bare.service", "added.service", "net-pod.service",
		"play.service", "disk-volume.service", "mine.service@maria", "given.service@maria",
		"others.service@maria",
	}
	const want = "shop.service on, idle.service none, bare.service off, added.service on, " +
		"net-pod.service on, play.service on, disk-volume.service none, mine.service@maria on, " +
		"given.service@maria on, others.service@maria none"
	survey := func() *linux.Inventory { return linux.Survey(r, family.Options{Now: now}) }
	inv := survey()
	if got := states(inv, ids...); got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	shop, _ := inv.Find("service:shop.service")
	if shop.Program != "/usr/bin/podman" || !strings.Contains(shop.Command, "reg/shop:2") ||
		shop.Title != "container shop" {
		t.Errorf("%+v", shop)
	}
	bare, _ := inv.Lookup("service:bare.service")
	if !strings.Contains(bare.Why, "names no image") {
		t.Errorf("bare: %q", bare.Why)
	}
	before := testtree.Snapshot(t, dir, nil)
	for _, id := range []string{"service:shop.service", "service:mine.service@maria"} {
		for _, to := range []item.State{item.Off, item.On} {
			it, _ := survey().Lookup(id)
			d := r.Draft(now)
			ok(t, survey().Turner(d).Turn(it, to, 0))
			for _, e := range d.Edits() {
				if strings.HasSuffix(e.Path, ".container") {
					t.Errorf("%s %s touches %s", id, to, e.Path)
				}
				ok(t, os.MkdirAll(path.Dir(dir+e.Path), 0o755))
				ok(t, r.Apply(e))
			}
			if it, _ := survey().Lookup(id); it.State != to {
				t.Errorf("%s is %s, not %s", id, it.State, to)
			}
		}
	}
	var files []string
	for line := range strings.Lines(testtree.Diff(before, testtree.Snapshot(t, dir, nil))) {
		if strings.Contains(line, "service") || strings.Contains(line, ".container") {
			files = append(files, line)
		}
	}
	if len(files) > 0 {
		t.Errorf("left behind: %q", files)
	}
	// without the generator nothing comes of them
	files2 := containers()
	maps.DeleteFunc(files2, func(p, _ string) bool { return strings.Contains(p, "-generators/") })
	r, _ = machineWith(t, files2)
	inv = linux.Survey(r, family.Options{Now: now})
	if it, _ := inv.Find("service:shop.service"); it.State != item.Off ||
		!strings.Contains(it.Why, "does not have podman's generator") {
		t.Errorf("without the generator: %+v", it)
	}
}

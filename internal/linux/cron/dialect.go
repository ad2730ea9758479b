package cron

import (
	"path"
	"regexp"
	"slices"
	"strings"

	"calmdawn/internal/machine"
)

// A dialect is how one kind of daemon finds its tables, and reads them. The
// kinds differ where their manuals say so: crontab(5) and cron(8) of each.
type dialect struct {
	unit  string   // the service, or target, that launches what it finds
	spool []string // folders of users' tables
	// named reports whether the daemon reads a table of such a name in
	// cron.d, and whether scripts so named are run.
	named, runs func(name string) bool
	// whole: one line that is wrong drops all of its table; without, the
	// line alone.
	whole bool
	// catchUp is the script that starts the daemon of missed days every hour;
	// empty where that has a unit of its own.
	catchUp string
	// asUnits: it makes units of lines, and no daemon stays.
	asUnits bool
	// careful says that a file that has several names is not read, nor a user's
	// table that others may write to. private says that neither is one of any
	// mode but 0600.
	careful, private bool
	// foreign says why users' tables are not read; empty where they are.
	foreign string
}

var strictName = regexp.MustCompile(`^[A-Za-z0-9_-]+$`)

func strict(name string) bool { return strictName.MatchString(name) }

// loose passes over what package managers and editors leave, as cronie's
// cron(8) says.
func loose(name string) bool {
	return !strings.HasPrefix(name, ".") && !strings.HasPrefix(name, "#") &&
		!slices.ContainsFunc([]string{"~", ".rpmsave", ".rpmorig", ".rpmnew", ".cfsaved"},
			func(end string) bool { return strings.HasSuffix(name, end) })
}

// own is the daemon of Debian's package cron, which is taken for the one of a
// machine that tells of none.
var own = dialect{
	unit: "cron.service", spool: []string{"/var/spool/cron/crontabs"}, named: strict,
	runs: strict, whole: true, careful: true, private: true,
}

// wholeSpool holds users' tables themselves, with some daemons.
const wholeSpool = "/var/spool/cron"

const hourly = "/etc/cron.hourly/0anacron"

// dialectOf tells which daemon a machine has. It goes by the units that are
// there. Where two use one name, it goes by the folders that they make.
func dialectOf(r *machine.Root, there func(unit string) bool) dialect {
	folder := func(p string) bool {
		info, err := r.Stat(p)
		return err == nil && info.Kind == machine.Folder
	}
	cronie := func(unit string, spool ...string) dialect {
		d := dialect{unit: unit, spool: spool, named: loose, runs: loose, careful: true}
		if r.IsFile(hourly) {
			d.catchUp = hourly
		}
		return d
	}
	const tabs = "/var/spool/cron/tabs"
	switch {
	case there("cron.target") && generator(r, "systemd-crontab-generator"):
		return dialect{
			unit: "cron.target", spool: own.spool, runs: strict, asUnits: true,
			named: func(name string) bool {
				return name[0] != '.' && !strings.Contains(name, "~") &&
					!strings.Contains(name, ".dpkg-")
			},
		}
	case there("crond.service"):
		return cronie("crond.service", wholeSpool)
	case there("cronie.service"):
		return cronie("cronie.service", wholeSpool, own.spool[0])
	case there("cron.service") && folder(tabs) && !folder(own.spool[0]):
		return cronie("cron.service", tabs)
	case there("cron.service"):
		return own
	case there("bcron-sched.service"), there("bcron.service"):
		d := dialect{
			unit: "bcron.service", spool: []string{"/var/spool/cron/crontabs"}, named: strict,
			runs: strict,
		}
		if there("bcron-sched.service") {
			d.unit = "bcron-sched.service"
		}
		return d
	case there("dcron.service"):
		return dialect{unit: "dcron.service", spool: own.spool, named: loose, runs: strict}
	case there("fcron.service"):
		return dialect{
			unit: "fcron.service", named: loose, runs: strict,
			foreign: "/var/spool/fcron",
		}
	}
	return own
}

func generator(r *machine.Root, name string) bool {
	for _, folder := range []string{"/usr/lib", "/lib", "/usr/local/lib", "/etc"} {
		if info, err := r.Stat(path.Join(folder, "systemd/system-generators", name)); err == nil &&
			info.Kind == machine.Regular {
			return true
		}
	}
	return false
}

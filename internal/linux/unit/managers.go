package unit

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/item"
	"calmdawn/internal/linux/account"
	"calmdawn/internal/linux/launch"
	"calmdawn/internal/machine"
)

// Mechanism is the mechanism of items that a service manager launches.
const Mechanism = "unit"

// Managers are the service managers of a machine: the system's, and one of each
// user.
type Managers struct {
	source *Source
	system *Tree
	users  map[string]*Tree // by user name
	people []account.User
	scopes map[string]Scope // by user name; the system's has none
}

// ReadManagers indexes the units of a machine for its next boot, which is taken
// to be now. Desktop says whether users log in to one. Of the ids in
// remembered, those of units are looked at besides.
func ReadManagers(
	r *machine.Root,
	finder *launch.Finder,
	users []account.User,
	now time.Time,
	desktop bool,
	remembered []string,
) *Managers {
	source := Read(r, finder, now)
	m := &Managers{
		source: source,
		system: source.System(),
		users:  map[string]*Tree{},
		people: users,
		scopes: map[string]Scope{},
	}
	system := Scope{When: item.AtBoot}
	for _, id := range remembered {
		if name, ok := nameOf(id); ok {
			system.Remembered = append(system.Remembered, name)
		}
	}
	m.scopes[""] = system
	m.system.addLater(false)
	if disk := m.system.disk; disk != nil {
		disk.addLater(false)
	}
	for _, u := range users {
		scope := Scope{When: item.AtLogin}
		if u.Lingers {
			scope.When = item.AtBoot
		}
		tree := source.User(u)
		if desktop && u.UID != 0 {
			tree.goals = []string{"graphical-session.target"}
		}
		tree.addLater(desktop && u.UID != 0)
		m.users[u.Name], m.scopes[u.Name] = tree, scope
	}
	return m
}

// nameOf is the name of the unit that an id of ours means.
func nameOf(id string) (string, bool) {
	for _, prefix := range []string{servicePrefix, timerPrefix} {
		if name, ok := strings.CutPrefix(id, prefix); ok && validName(name) {
			return name, true
		}
	}
	return "", false
}

// Name is the mechanism that items carry.
func (m *Managers) Name() string { return Mechanism }

// Survey returns the services and timers of all service managers.
func (m *Managers) Survey() []item.Item {
	items := m.system.Survey(m.scopes[""])
	for _, u := range m.people {
		own := m.users[u.Name].Survey(m.scopes[u.Name])
		for i := range own {
			if why := m.NeverStarts(u); why != "" && own[i].State.Launched() {
				own[i].State, own[i].Why, own[i].Because = item.Off, why, nil
			}
		}
		items = append(items, own...)
	}
	return items
}

// NeverStarts says why a user's service manager never runs; empty where it
// does.
func (m *Managers) NeverStarts(u account.User) string {
	manager := m.system.load(fmt.Sprintf("user@%d.service", u.UID))
	switch {
	case manager.masked:
		return "user@.service, which runs " + u.Name + "'s service manager, is " + manager.hidden
	case u.NoLogin != "" && !u.Lingers && !m.pulled(manager.name):
		return "nobody logs in as " + u.Name + ", whose shell is " + u.NoLogin
	}
	return ""
}

// pulled reports whether the boot itself starts a unit.
func (m *Managers) pulled(name string) bool {
	_, on := m.system.reach()[name]
	return on
}

// Unread names the places that could not be read.
func (m *Managers) Unread() []item.Unread { return m.source.Unread() }

// Lookup returns the item of an instance of a template that is there, which no
// survey finds by itself.
func (m *Managers) Lookup(id string, _ item.Survey) (item.Item, bool) {
	name, ok := nameOf(id)
	if !ok || splitName(name).instance == "" {
		return item.Item{}, false
	}
	it, err := m.system.Lookup(name)
	return it, err == nil
}

// Key is the name by which boots know a unit.
func (m *Managers) Key(it item.Item) (boot.Key, bool) {
	return boot.Key{Native: it.Native, Owner: it.Owner}, true
}

// Turner returns what turns units of any of the managers. An item without
// an id is taken for the unit of its native name.
func (m *Managers) Turner(d *machine.Draft) item.Turner {
	return &managersPlan{m, d, map[string]*Turner{}}
}

type managersPlan struct {
	*Managers
	draft *machine.Draft
	trees map[string]*Turner // by owner, as far as they were needed
}

func (p *managersPlan) Turn(it item.Item, to item.State, by time.Duration) error {
	plan := p.trees[it.Owner]
	if plan == nil {
		plan = p.of(it.Owner).Turner(p.draft)
		p.trees[it.Owner] = plan
	}
	return plan.Turn(it, to, by)
}

func (m *Managers) of(owner string) *Tree {
	if tree := m.users[owner]; tree != nil {
		return tree
	}
	return m.system
}

// Launches tells whether a unit is there, whether the system's service manager
// launches it, and by which chain.
func (m *Managers) Launches(name string) (chain []string, there, on bool) {
	if there = m.system.load(name).file != nil; !there {
		return nil, false, false
	}
	if splitName(name).suffix == "target" {
		got := m.system.reach()
		if _, on = got[name]; on {
			chain = got.chain(name)
		}
		return chain, true, on
	}
	it, err := m.system.Lookup(name)
	return it.Because, true, err == nil && it.State == item.On
}

// Stopped says why a user's service manager would not start a unit that is made
// of something else; empty where it would.
func (m *Managers) Stopped(u account.User, name string) string {
	return m.users[u.Name].stopped(name)
}

// Order gives boots of which only the log speaks the order that the unit files
// set up, as they are now. What was started on demand gets the names under
// which the boots know it. The boots given stay as they are.
func (m *Managers) Order(boots []boot.Boot) []boot.Boot {
	all := slices.Clone(boots)
	for i, b := range all {
		all[i].Asks = slices.Clone(b.Asks)
		for k, a := range b.Asks {
			if tree := m.of(a.Owner); a.Unit != "" {
				all[i].Asks[k].Unit = tree.load(a.Unit).name
			}
		}
		if b.Ordered() {
			continue
		}
		names := map[string][]string{}
		for _, s := range b.Spans {
			names[s.Owner] = append(names[s.Owner], s.Native)
		}
		all[i] = boot.Fill(all[i], m.system.Graph(names[""]))
		for owner, tree := range m.users {
			if len(names[owner]) > 0 {
				all[i] = boot.Fill(all[i], tree.Graph(names[owner]))
			}
		}
	}
	return all
}

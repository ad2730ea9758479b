package cli

import (
	"slices"
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/notebook"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

// checkOrder refuses orders and groups that there are not. A column's name may
// be given as it stands above the column.
func (f *listing) checkOrder() error {
	for _, name := range []*string{&f.sort, &f.group} {
		*name = strings.ReplaceAll(strings.ToLower(strings.TrimSpace(*name)), " ", "-")
	}
	if _, ok := say.Orders[f.sort]; !ok && f.sort != "cost" {
		return usage("--sort takes cost, %s, not %q", strings.Join(say.SortWords(), ", "), f.sort)
	}
	if f.group != "" && !slices.Contains(say.Groups, f.group) {
		return usage("--group takes %s, not %q", strings.Join(say.Groups, ", "), f.group)
	}
	f.now = f.now || strings.HasSuffix(f.sort, "-now")
	return nil
}

// keepList keeps what is shown as the last list of the machine, whose numbers
// commands take. It returns false where nobody could give them, or it cannot be
// kept.
func (a *app) keepList(l *visit.Visit, shown []visit.Row) bool {
	folder, err := a.stateFolder()
	if !a.Ask || err != nil || len(shown) == 0 { // an empty table has no numbers
		return false
	}
	list := notebook.List{At: a.now()}
	noted := func(it item.Item) notebook.Row {
		return notebook.Row{ID: it.ID, Title: it.Title, State: string(it.State)}
	}
	for _, r := range shown {
		row := noted(r.Item)
		for _, it := range r.With {
			row.With = append(row.With, noted(it))
		}
		list.Rows = append(list.Rows, row)
	}
	return list.Keep(folder, l.ListedAs(l.Root)) == nil
}

func (a *app) stateFolder() (string, error) {
	if a.State != "" {
		return a.State, nil
	}
	return notebook.StateFolder()
}

// lastList returns the list of a machine that the person who calls has seen;
// a script has seen none.
func (a *app) lastList(machine string) (notebook.List, error) {
	const why = "the numbers of the last list are for people: name the items"
	switch {
	case a.answered:
		return notebook.List{}, usage("%s, or leave --yes away", why)
	case !a.Ask:
		return notebook.List{}, usage("%s, since nobody is there to be asked", why)
	}
	folder, err := a.stateFolder()
	if err != nil {
		return notebook.List{}, notebook.ErrNoList
	}
	return notebook.LastList(folder, machine)
}

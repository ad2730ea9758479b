package visit

import (
	"strings"
	"time"

	"calmdawn/internal/core/item"
)

// A Row is an item in a table, with those that have no row of their own there.
// Who means the row means all of them.
type Row struct {
	item.Item
	With []item.Item
}

// Rows are items with a row for each.
func Rows(items []item.Item) []Row {
	rows := make([]Row, len(items))
	for i, it := range items {
		rows[i].Item = it
	}
	return rows
}

// Gather puts items into one row that nothing sets apart: see [Visit.Shelf].
// The row stands where the first of them does.
func (v *Visit) Gather(items []item.Item) (rows []Row) {
	at := map[string]int{}
	for _, it := range items {
		shelf := v.Shelf(it)
		if n, there := at[shelf]; there && shelf != "" {
			rows[n].With = append(rows[n].With, it)
			continue
		}
		at[shelf] = len(rows)
		rows = append(rows, Row{Item: it})
	}
	return rows
}

// leastCPU is what a screen shows as more than 0.0 s.
const leastCPU = 50 * time.Millisecond

// Shelf is the same text for items of one package with one state, owner and
// advice, of which none is known to cost anything. It is empty for an item that
// is to be seen by itself: a broken one, or one that was decided or noted.
func (v *Visit) Shelf(it item.Item) string {
	c := v.Cost(it)
	free := !c.Wait.Lead().Shows && c.CPU.Value < leastCPU && c.Memory.Bytes == 0
	_, decided := v.LastChange(it.ID)
	_, joint := v.Joint(it)
	if it.Package == "" || it.State == item.Broken || it.Note != "" || !free || decided || joint {
		return ""
	}
	sure := "sure"
	if it.Unsure {
		sure = ""
	}
	return strings.Join([]string{
		it.Package, string(it.State), it.Owner, string(it.Advice), sure,
	}, "\x00")
}

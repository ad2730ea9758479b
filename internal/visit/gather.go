package visit

import (
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

// A Shelf is what items share that nothing sets apart in a table. The zero one
// is of an item that is to be seen by itself.
type Shelf struct {
	pkg, owner string
	state      item.State
	advice     item.Advice
	unsure     bool
}

// Gather puts items of one shelf into one row: see [Visit.ShelfOf]. The row
// stands where the first of them does.
func (v *Visit) Gather(items []item.Item) (rows []Row) {
	at := map[Shelf]int{}
	for _, it := range items {
		shelf := v.ShelfOf(it)
		if n, there := at[shelf]; there && shelf != (Shelf{}) {
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

// ShelfOf is the shelf of an item of a package that is not known to cost
// anything. A broken one has none, nor one that was decided or noted.
func (v *Visit) ShelfOf(it item.Item) Shelf {
	c := v.Cost(it)
	free := !c.Wait.Lead().Shows && c.CPU.Value < leastCPU && c.Memory.Bytes == 0
	_, decided := v.LastChange(it.ID)
	_, joint := v.Joint(it)
	if it.Package == "" || it.State == item.Broken || it.Note != "" || !free || decided || joint {
		return Shelf{}
	}
	return Shelf{it.Package, it.Owner, it.State, it.Advice, it.Unsure}
}

package workshop

import (
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"
)

// OnlyAdds reports whether the user may only put deliveries into the inbox, and
// ask nothing.
func (s *Store) OnlyAdds() bool { return s.onlyAdds }

// send puts a delivery into the inbox. Who sent it the server says.
func (s *Store) send(d Delivery) (Added, error) {
	text, err := json.Marshal(d)
	if err != nil {
		return Added{}, err
	}
	name := fmt.Sprintf("%x", sha256.Sum256(text))
	_, err = s.db.Exec("INSERT INTO inbox(delivery, document) VALUES($1, $2)", name, string(text))
	if s.again(err) { // it waits there already
		return Added{Name: d.Host, Sent: true}, nil
	}
	return Added{Name: d.Host, Sent: true, New: 1}, err
}

// Waiting is how many deliveries are in the inbox.
func (s *Store) Waiting() (n int, err error) {
	err = s.db.QueryRow("SELECT count(*) FROM inbox").Scan(&n)
	return n, err
}

// inboxLot is how many deliveries are read at once.
const inboxLot = 50

// TakeIn takes in what waits in the inbox, under the names of who sent it. What
// cannot be taken in is thrown away, and told in refused.
func (s *Store) TakeIn(now time.Time) (taken int, refused []error, err error) {
	type sent struct{ name, by, document string }
	for {
		lot, err := all(s.ask, func(r *sql.Rows, d *sent) error {
			return r.Scan(&d.name, &d.by, &d.document)
		}, "SELECT delivery, sent_by, CASE WHEN length(document) <= $1 THEN document ELSE '' END "+
			"FROM inbox ORDER BY delivery LIMIT $2", maxDocument, inboxLot)
		if err != nil || len(lot) == 0 {
			return taken, refused, err
		}
		for _, one := range lot {
			var d Delivery
			wrong := json.Unmarshal([]byte(one.document), &d)
			if wrong == nil {
				_, wrong = s.Add(d, now, one.by)
			}
			if wrong != nil {
				refused = append(refused, fmt.Errorf("a delivery of %s: %w", one.by, wrong))
			} else {
				taken++
			}
			if _, err := s.db.Exec("DELETE FROM inbox WHERE delivery = $1", one.name); err != nil {
				return taken, refused, err
			}
		}
	}
}

// checked is a delivery whose texts and figures are within bounds, whoever made
// it.
func (d Delivery) checked() (Delivery, error) {
	if d.MachineID == "" {
		return d, errors.New("it does not tell of which machine it is")
	}
	if max(len(d.Items), len(d.Decisions)) > maxItems || len(d.Boots) > maxBoots {
		return d, errors.New("it holds more than any machine does")
	}
	d.Items, d.Boots = slices.Clone(d.Items), slices.Clone(d.Boots)
	d.Decisions = slices.Clone(d.Decisions)
	bound(&d.MachineID, &d.HardwareID, &d.Host, &d.Family, &d.OS, &d.Model)
	for i := range d.Items {
		it := &d.Items[i]
		bound(&it.Family, &it.Name, &it.Maker, &it.Title, &it.Role, &it.Owner, &it.MadeBy,
			&it.Version)
		bound(&it.Kind)
		bound(&it.State)
		bound(&it.When)
		bound(&it.Advice)
		it.Wait, it.CPU = possible(it.Wait), possible(it.CPU)
	}
	for i := range d.Boots {
		b := &d.Boots[i]
		bound(&b.ID, &b.Kind)
		b.Ready, b.Usable = possible(b.Ready), possible(b.Usable)
	}
	for i := range d.Decisions {
		c := &d.Decisions[i]
		bound(&c.Family, &c.Name, &c.Maker, &c.Of)
		bound(&c.Kind)
		bound(&c.Verb)
		c.Saved = possible(c.Saved)
	}
	return d, nil
}

func bound[T ~string](texts ...*T) {
	for _, t := range texts {
		*t = T(short(string(*t)))
	}
}

// possible is a time as a machine can have one; nil otherwise.
func possible(d *time.Duration) *time.Duration {
	if d == nil {
		return nil
	}
	return seconds(d.Seconds())
}

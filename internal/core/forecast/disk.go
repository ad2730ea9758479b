package forecast

import (
	"time"

	"calmdawn/internal/core/boot"
)

// What makes a disk a bottleneck: at work for this share of the time, for this long in all.
const (
	diskFull     = 0.85
	diskFullLong = time.Second
)

// diskSpeed is how many bytes a second the disk gave while it was what the machine waited for; 0 where it never was.
func diskSpeed(course []boot.Use) float64 {
	var read int64
	var long time.Duration
	eachFull(course, func(from, to boot.Use) {
		read += to.Read - from.Read
		long += to.At - from.At
	})
	if long < diskFullLong || read <= 0 {
		return 0
	}
	return float64(read) / long.Seconds()
}

// eachFull calls f with the ends of every stretch in which the disk was full. What the disk did is looked at less often than processors are:
// a stretch goes from one such look to the next.
func eachFull(course []boot.Use, f func(from, to boot.Use)) {
	if len(course) == 0 {
		return
	}
	from := course[0]
	for _, u := range course[1:] {
		if u.Disk == from.Disk && u.Read == from.Read && u.At-from.At < 1500*time.Millisecond {
			continue
		}
		if (u.Disk - from.Disk).Seconds() >= diskFull*(u.At-from.At).Seconds() {
			f(from, u)
		}
		from = u
	}
}

// diskCrowded reports whether the disk was full at a moment.
func (r *Replay) diskCrowded(at time.Duration) bool {
	for _, s := range r.full {
		if s[0] < at && at <= s[1] {
			return true
		}
	}
	return false
}

// evenly spreads what a course tells of reading over the samples between two looks at the disk.
func evenly(course []boot.Use) []boot.Use {
	const look = time.Second
	even := append([]boot.Use{}, course...)
	for i := 1; i < len(even); i++ {
		n := course[i].Read - course[i-1].Read
		if n <= 0 {
			continue
		}
		first := i
		for first > 0 && course[i].At-course[first-1].At <= look && course[first-1].Read == course[i-1].Read {
			first--
		}
		begin := course[i].At - look
		for k := first; k < i; k++ {
			if part := float64(course[k].At-begin) / float64(look); part > 0 {
				even[k].Read = course[i-1].Read + int64(part*float64(n))
			}
		}
	}
	return even
}

package forecast

import (
	"cmp"
	"slices"
	"time"

	"calmdawn/internal/core/boot"
)

// What makes a disk a bottleneck: at work for this share of the time, for this
// long in all.
const (
	diskFull     = 0.85
	diskFullLong = time.Second
)

// diskSpeed is how many bytes a second the disk gave while it was what the
// machine waited for; 0 where it never was.
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

// looks are the moments at which the recorder looked at the disk and saw that
// it had worked. It looks less often at it than at the processors.
func looks(course []boot.Use) []boot.Use {
	var all []boot.Use
	for _, u := range course {
		n := len(all)
		switch {
		case u.Disk == 0:
		case n == 0 || u.Disk != all[n-1].Disk || u.Read != all[n-1].Read:
			all = append(all, u)
		}
	}
	return all
}

// eachFull calls f with the ends of every stretch in which the disk was full.
func eachFull(course []boot.Use, f func(from, to boot.Use)) {
	all := looks(course)
	for i := 1; i < len(all); i++ {
		from, to := all[i-1], all[i]
		if (to.Disk - from.Disk).Seconds() >= diskFull*(to.At-from.At).Seconds() {
			f(from, to)
		}
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

// evenly spreads what a course tells of reading over the samples between two
// looks at the disk.
func (r *Replay) evenly(course []boot.Use) []boot.Use {
	even := append([]boot.Use{}, course...)
	for i := 1; i < len(even); i++ {
		n := course[i].Read - course[i-1].Read
		if n <= 0 {
			continue
		}
		k, found := slices.BinarySearchFunc(r.looks, course[i].At-50*time.Millisecond, func(
			u boot.Use,
			at time.Duration,
		) int {
			return cmp.Compare(u.At, at)
		})
		if found || k == 0 {
			continue
		}
		begin := r.looks[k-1].At
		for j := i - 1; j >= 0 && course[j].At > begin && course[j].Read == course[i-1].Read; j-- {
			even[j].Read = course[i-1].Read +
				int64(float64(course[j].At-begin)/float64(course[i].At-begin)*float64(n))
		}
	}
	return even
}

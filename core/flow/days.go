package flow

import (
	"maps"
	"math/bits"
	"slices"
)

// Days is a set of days, each by its number since 1970 (UTC). The zero value is empty. Within two
// months of the first day no memory is allocated.
type Days struct {
	base int32 // the day of the lowest bit
	near [2]uint64
	far  map[int32]struct{}
}

// Add puts a day in the set.
func (d *Days) Add(day int32) {
	if d.near == ([2]uint64{}) && d.far == nil {
		d.base = day - 64
	}
	if at := day - d.base; at >= 0 && at < 128 {
		d.near[at>>6] |= 1 << (at & 63)
		return
	}
	if d.far == nil {
		d.far = make(map[int32]struct{})
	}
	d.far[day] = struct{}{}
}

// Merge puts all days of another set in this one.
func (d *Days) Merge(o *Days) {
	if d.Count() == 0 {
		*d = *o
		d.far = maps.Clone(o.far)
		return
	}
	if d.base == o.base && o.far == nil {
		d.near[0] |= o.near[0]
		d.near[1] |= o.near[1]
		return
	}
	for _, day := range o.Sorted() {
		d.Add(day)
	}
}

// Count is how many days there are.
func (d *Days) Count() int {
	return bits.OnesCount64(d.near[0]) + bits.OnesCount64(d.near[1]) + len(d.far)
}

// Sorted are the days, earliest first.
func (d *Days) Sorted() []int32 {
	days := make([]int32, 0, d.Count())
	for day := range d.far {
		days = append(days, day)
	}
	for i, word := range d.near {
		for ; word != 0; word &= word - 1 {
			days = append(days, d.base+int32(64*i+bits.TrailingZeros64(word)))
		}
	}
	slices.Sort(days)
	return days
}

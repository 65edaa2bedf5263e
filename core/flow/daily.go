package flow

import (
	"maps"
	"slices"
)

// A Daily keeps a summary of each day (UTC), by the day on which flows began. The
// zero value is ready for use.
type Daily struct {
	days map[int32]*Summary
	last int32 // the day that was asked for last, with its summary
	at   *Summary
}

// Of is the summary of a day, by its number since 1970.
func (d *Daily) Of(day int32) *Summary {
	if d.at != nil && d.last == day {
		return d.at
	}
	s := d.days[day]
	if s == nil {
		if d.days == nil {
			d.days = make(map[int32]*Summary)
		}
		s = new(Summary)
		d.days[day] = s
	}
	d.last, d.at = day, s
	return s
}

// Add takes one flow.
func (d *Daily) Add(r *Record) { d.Of(day(r.Start)).Add(r) }

// Merge adds all of another Daily, which must not be used afterwards.
func (d *Daily) Merge(o *Daily) {
	for day, s := range o.days {
		if mine := d.days[day]; mine != nil {
			mine.Merge(s)
			continue
		}
		if d.days == nil {
			d.days = make(map[int32]*Summary)
		}
		d.days[day] = s
	}
}

// Close ends a source of evidence, as Summary.Close does: whether the source, and each server in it,
// tells of replies is judged over all of its days.
func (d *Daily) Close() {
	tells := false
	for _, s := range d.days {
		s.settle()
		tells = tells || s.tellsBack
	}
	answering := make(answerers)
	for _, s := range d.days {
		s.tellsBack, s.settled = tells, false
		s.settle()
		answering.note(s)
	}
	for _, s := range d.days {
		s.fold(answering)
	}
}

// Days are the days for which there is a summary, earliest first.
func (d *Daily) Days() []int32 { return slices.Sorted(maps.Keys(d.days)) }

// Between is the sum of the days from..to, both included. It consumes these summaries.
func (d *Daily) Between(from, to int32) *Summary {
	var sum Summary
	for _, day := range d.Days() {
		if day >= from && day <= to {
			sum.Merge(d.days[day])
		}
	}
	return &sum
}

// Drop removes the days that are not wanted.
func (d *Daily) Drop(unwanted func(day int32) bool) {
	maps.DeleteFunc(d.days, func(day int32, _ *Summary) bool { return unwanted(day) })
	d.at = nil
}

package phrase

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Crontab gives the lines' five fields that say the same to cron, or why it cannot say it.
func (s *Schedule) Crontab() ([]string, error) {
	if s.cron {
		return []string{s.Text}, nil
	}
	if !s.from.isZero() || !s.until.isZero() {
		return nil, fmt.Errorf("cron knows no first or last date")
	}
	var months, dows []string
	for _, d := range s.days {
		switch {
		case d.month < 0 || d.nth != 0:
			return nil, fmt.Errorf("cron knows neither the last day of a month nor its first monday")
		case d.month > 0:
			months = append(months, strconv.Itoa(d.month))
		default:
			for w := d.first; ; w = (w + 1) % 7 {
				dows = append(dows, strconv.Itoa(int(w)))
				if w == d.last {
					break
				}
			}
		}
	}
	tail := " " + orStar(months) + " * " + orStar(dows) // cron takes days of both kinds, when both are said
	hours := map[int][]string{}
	var minutes []int
	for _, c := range s.times {
		m := int(c) % 60
		if hours[m] == nil {
			minutes = append(minutes, m)
		}
		hours[m] = append(hours[m], strconv.Itoa(int(c)/60))
	}
	var lines []string
	for _, m := range minutes {
		h := orStar(hours[m])
		if len(hours[m]) == 24 {
			h = "*"
		}
		lines = append(lines, strconv.Itoa(m)+" "+h+tail)
	}
	return lines, nil
}

func orStar(list []string) string {
	if len(list) == 0 {
		return "*"
	}
	return strings.Join(list, ",")
}

// Calendar gives the calendar events that say the same to systemd, in a zone, or why it cannot.
func (s *Schedule) Calendar(zone string) ([]string, error) {
	if s.cron {
		return nil, fmt.Errorf("a crontab expression is for cron; write a phrase")
	}
	if !s.from.isZero() || !s.until.isZero() {
		return nil, fmt.Errorf("systemd knows no first or last date")
	}
	on := []string{"*-*-*"}
	if len(s.days) > 0 {
		on = nil
	}
	for _, d := range s.days {
		week := d.first.String()[:3]
		if d.last != d.first {
			week += ".." + d.last.String()[:3]
		}
		if d.first == time.Saturday && d.last == time.Sunday { // its weeks begin on Monday
			week = "Sat,Sun"
		} else if (d.first+6)%7 > (d.last+6)%7 {
			return nil, fmt.Errorf("systemd knows no days from %s to %s", d.first, d.last)
		}
		switch {
		case d.month < 0:
			on = append(on, "*-*~01")
		case d.month > 0:
			on = append(on, fmt.Sprintf("*-*-%02d", d.month))
		case d.nth < 0:
			on = append(on, week+" *-*~01..07")
		case d.nth > 0:
			on = append(on, fmt.Sprintf("%s *-*-%02d..%02d", week, d.nth*7-6, d.nth*7))
		default:
			on = append(on, week+" *-*-*")
		}
	}
	var events []string
	for _, day := range on {
		for _, c := range s.times {
			events = append(events, day+" "+c.String()+":00 "+zone)
		}
	}
	return slices.Compact(events), nil
}

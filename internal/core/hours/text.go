package hours

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

var dayNames = [7]string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// String writes a window like 18:00-08:00. One that ends on the next day ends
// earlier than it begins; a whole day is 00:00-24:00.
func (w Window) String() string { return clock(w.From) + "-" + clock(w.To) }

func clock(minutes int) string {
	if minutes > day {
		minutes -= day
	}
	return fmt.Sprintf("%02d:%02d", minutes/60, minutes%60)
}

// String writes a week like "mon-thu 18:00-08:00; fri 18:00-24:00; sat,sun
// 00:00-24:00". No window at all is "never".
func (w Week) String() string {
	var parts []string
	for i := 0; i < 7; {
		j := i + 1
		for j < 7 && slices.Equal(w[i], w[j]) {
			j++
		}
		if len(w[i]) > 0 {
			days := dayNames[i]
			switch j - i {
			case 1:
			case 2:
				days += "," + dayNames[j-1]
			default:
				days += "-" + dayNames[j-1]
			}
			var windows []string
			for _, x := range w[i] {
				windows = append(windows, x.String())
			}
			parts = append(parts, days+" "+strings.Join(windows, ","))
		}
		i = j
	}
	if len(parts) == 0 {
		return "never"
	}
	return strings.Join(parts, "; ")
}

// ParseWeek reads a week as String writes it. "always" is every day whole. A
// day may be named several times.
func ParseWeek(text string) (Week, error) {
	var w Week
	switch strings.TrimSpace(text) {
	case "never":
		return w, nil
	case "always":
		for i := range w {
			w[i] = []Window{{0, day}}
		}
		return w, nil
	}
	for part := range strings.SplitSeq(text, ";") {
		days, windows, ok := strings.Cut(strings.TrimSpace(part), " ")
		if !ok {
			return w, fmt.Errorf(
				"%q does not name days and times; write it like mon-fri 18:00-08:00", strings.TrimSpace(part),
			)
		}
		which, err := parseDays(days)
		if err != nil {
			return w, err
		}
		for one := range strings.SplitSeq(windows, ",") {
			x, err := ParseWindow(strings.TrimSpace(one))
			if err != nil {
				return w, err
			}
			for _, d := range which {
				w[d] = append(w[d], x)
			}
		}
	}
	for i := range w {
		if err := checkWindows(w[i]); err != nil {
			return w, fmt.Errorf("%s: %w", dayNames[i], err)
		}
		w[i] = tidy(w[i])
	}
	return w, nil
}

func parseDays(text string) ([]int, error) {
	var out []int
	for part := range strings.SplitSeq(strings.ToLower(text), ",") {
		first, last, isRange := strings.Cut(part, "-")
		if !isRange {
			last = first
		}
		a, b := slices.Index(dayNames[:], first), slices.Index(dayNames[:], last)
		if a < 0 || b < 0 {
			return nil, fmt.Errorf("%q is not a day; use %s", part, strings.Join(dayNames[:], ", "))
		}
		for d := a; ; d = (d + 1) % 7 { // fri-mon goes over the end of the week
			out = append(out, d)
			if d == b {
				break
			}
		}
	}
	return out, nil
}

// ParseWindow reads a window like 18:00-08:00.
func ParseWindow(text string) (Window, error) {
	first, last, ok := strings.Cut(text, "-")
	from, err1 := parseClock(first)
	to, err2 := parseClock(last)
	if !ok || err1 != nil || err2 != nil || from == day {
		return Window{}, fmt.Errorf("%q is not a time span; write it like 18:00-08:00", text)
	}
	if to <= from {
		to += day
	}
	return Window{from, to}, nil
}

// parseClock reads a time of day in minutes; 24:00 is the end of the day.
func parseClock(text string) (int, error) {
	h, m, ok := strings.Cut(strings.TrimSpace(text), ":")
	hour, err1 := strconv.ParseUint(h, 10, 8)
	minute, err2 := strconv.ParseUint(m, 10, 8)
	if !ok || err1 != nil || err2 != nil || len(m) != 2 || minute > 59 || hour > 24 || hour == 24 && minute > 0 {
		return 0, fmt.Errorf("%q is not a time of day", text)
	}
	return int(hour)*60 + int(minute), nil
}

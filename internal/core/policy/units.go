package policy

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

var durationUnits = []struct {
	name string
	unit time.Duration
}{
	{"ms", time.Millisecond}, {"s", time.Second}, {"m", time.Minute}, {"h", time.Hour},
	{"d", 24 * time.Hour}, {"w", 7 * 24 * time.Hour},
}

// ParseDuration reads a length of time in human units: 30s, 10m, 1h30m, 1d, forever.
// A number without a unit is refused: nobody should guess whether it means seconds.
func ParseDuration(s string) (time.Duration, error) {
	if s == "forever" {
		return Forever, nil
	}
	if s == "" {
		return 0, fmt.Errorf("a length of time is missing; write 30s, 10m, 1h, 1d or forever")
	}
	var total time.Duration
	for rest := s; rest != ""; {
		digits := 0
		for digits < len(rest) && (rest[digits] >= '0' && rest[digits] <= '9' || rest[digits] == '.') {
			digits++
		}
		letters := digits
		for letters < len(rest) && rest[letters] >= 'a' && rest[letters] <= 'z' {
			letters++
		}
		number, err := strconv.ParseFloat(rest[:digits], 64)
		if err != nil {
			return 0, fmt.Errorf("%q is not a length of time; write 30s, 10m, 1h, 1d or forever", s)
		}
		unit := durationUnit(rest[digits:letters])
		if unit == 0 {
			word := strings.TrimSpace(rest[digits:])
			switch short := shortUnits[strings.TrimSuffix(strings.ToLower(word), "s")]; {
			case word == "":
				return 0, fmt.Errorf("%q has no unit; write %[1]ss for seconds or %[1]sm for minutes", s)
			case short != "":
				return 0, fmt.Errorf("%q: write %s%s", s, s[:len(s)-len(rest)]+rest[:digits], short)
			}
			return 0, fmt.Errorf("%q: %q is not a unit of time; the units are ms, s, m, h, d and w", s, word)
		}
		if number*float64(unit) > float64(Forever) {
			return 0, fmt.Errorf("%q is longer than 100 years; write forever", s)
		}
		total += time.Duration(number * float64(unit))
		rest = rest[letters:]
	}
	return min(total, Forever), nil
}

// shortUnits are what people write in words, without the plural's s.
var shortUnits = map[string]string{
	"millisecond": "ms", "msec": "ms", "second": "s", "sec": "s", "minute": "m", "min": "m", "hour": "h", "hr": "h", "day": "d", "week": "w",
}

func durationUnit(name string) time.Duration {
	for _, u := range durationUnits {
		if u.name == name {
			return u.unit
		}
	}
	return 0
}

// FormatDuration writes a length of time the way ParseDuration reads it.
func FormatDuration(d time.Duration) string {
	if d >= Forever {
		return "forever"
	}
	if d < 0 {
		return "-" + FormatDuration(-d)
	}
	if d < time.Second {
		return strconv.FormatInt(d.Milliseconds(), 10) + "ms"
	}
	d = d.Round(time.Second)
	var b strings.Builder
	for _, u := range []struct {
		name string
		unit time.Duration
	}{{"d", 24 * time.Hour}, {"h", time.Hour}, {"m", time.Minute}, {"s", time.Second}} {
		if n := d / u.unit; n > 0 {
			fmt.Fprintf(&b, "%d%s", n, u.name)
			d -= n * u.unit
		}
	}
	return b.String()
}

var sizeUnits = []struct {
	name string
	unit float64
}{{"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}, {"B", 1}}

// ParseSize reads a number of bytes: 512B, 64KiB, 8MiB, 2GiB.
func ParseSize(s string) (int64, error) {
	for _, u := range sizeUnits {
		number, ok := strings.CutSuffix(s, u.name)
		if !ok {
			continue
		}
		n, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
		if err != nil || n < 0 || n*u.unit > math.MaxInt64/2 {
			break
		}
		return int64(n * u.unit), nil
	}
	return 0, fmt.Errorf("%q is not a size; write 512B, 64KiB, 8MiB or 2GiB", s)
}

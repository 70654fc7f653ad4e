package value

import (
	"fmt"
	"math"
	"strings"
	"time"
)

// maxMillis is the last millisecond of the year 9999, the last that RFC 3339
// can write.
const maxMillis = 253402300799999

// fromCP56 reads the binary time of IEC 60870-5-4, clause 6.8, from its seven
// octets as one number, octet 1 lowest:
//
//	bits  0-15  milliseconds of the minute, 0 to 59 999
//	bits 16-21  minute      bit 23  the time is invalid
//	bits 24-28  hour        bit 31  summer time
//	bits 32-36  day         bits 37-39  day of the week, ignored
//	bits 40-43  month       bits 48-54  year since 2000
func fromCP56(bits uint64) (Value, error) {
	if bits>>23&1 == 1 {
		return Value{}, ErrInvalid
	}
	field := func(from, width uint) int { return int(bits >> from & (1<<width - 1)) }
	ms, minute, hour := field(0, 16), field(16, 6), field(24, 5)
	day, month, year := field(32, 5), field(40, 4), field(48, 7)
	if ms > 59999 || minute > 59 || hour > 23 || day < 1 || day > 31 || month < 1 || month > 12 || year > 99 {
		return Value{}, ErrTime
	}
	t := time.Date(2000+year, time.Month(month), day, hour, minute, 0, 0, time.UTC)
	if t.Day() != day {
		return Value{}, ErrTime // such as 30 February
	}
	return OfMoment(t.UnixMilli() + int64(ms)), nil
}

func toCP56(ms int64) (uint64, error) {
	t := time.UnixMilli(ms).UTC()
	if t.Year() < 2000 || t.Year() > 2099 {
		return 0, fmt.Errorf("%s is outside the years of a binary time, 2000 to 2099", t.Format(time.DateTime))
	}
	weekday := uint64(t.Weekday()+6)%7 + 1
	return uint64(t.Second()*1000+t.Nanosecond()/1e6) | uint64(t.Minute())<<16 | uint64(t.Hour())<<24 |
		(uint64(t.Day())|weekday<<5)<<32 | uint64(t.Month())<<40 | uint64(t.Year()-2000)<<48, nil
}

// timeBits returns the bits of a time type that stand for v. A plain number is
// taken in seconds.
func (c *Codec) timeBits(v Value) (uint64, error) {
	ms := int64(v.bits)
	if v.kind != Moment && v.kind != Span {
		f := math.Round(v.Float() * 1000)
		if math.IsNaN(f) || math.Abs(f) > maxMillis {
			return 0, fmt.Errorf("%s is no time", v)
		}
		ms = int64(f)
	}
	switch c.family {
	case span:
		if ms < math.MinInt32 || ms > math.MaxInt32 {
			return 0, fmt.Errorf("%s is longer than a TIME holds, 24 days", OfSpan(ms))
		}
		return uint64(uint32(int32(ms))), nil
	case binaryTime:
		return toCP56(ms)
	case millis:
		if ms < 0 {
			return 0, fmt.Errorf("%s is before 1970", v)
		}
		return uint64(ms), nil
	}
	s := ms / 1000
	if c.Type == TypeDate {
		s -= s % 86400
	}
	if ms < 0 || s > math.MaxUint32 {
		return 0, fmt.Errorf("%s is outside the seconds that 32 bits hold, 1970 to 2106", v)
	}
	return uint64(s), nil
}

// printMoment prints a moment in UTC, the milliseconds only where there are
// some.
func printMoment(ms int64) string {
	t := time.UnixMilli(ms).UTC()
	if ms%1000 != 0 {
		return t.Format("2006-01-02 15:04:05.000")
	}
	return t.Format(time.DateTime)
}

// ParseMoment reads a moment as a person or a file writes it, in UTC unless it
// says otherwise.
func ParseMoment(text string) (Value, error) {
	text = strings.TrimSpace(text)
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05", time.DateTime, "2006-01-02 15:04",
		time.DateOnly} {
		if t, err := time.Parse(layout, text); err == nil && t.Year() >= 1970 {
			return OfMoment(t.UnixMilli()), nil
		}
	}
	return Value{}, fmt.Errorf("%q is no time: write it as 2026-11-23 14:05:00", text)
}

// ParseSpan reads a span of time: 1h2m3.5s, 250ms, or seconds as a number.
func ParseSpan(text string) (Value, error) {
	t := strings.ToLower(strings.ReplaceAll(strings.TrimSpace(text), " ", ""))
	t = strings.TrimPrefix(strings.TrimPrefix(t, "time#"), "t#")
	t = strings.ReplaceAll(t, "min", "m")
	if d, err := time.ParseDuration(t); err == nil {
		return OfSpan(d.Milliseconds()), nil
	}
	if d, err := time.ParseDuration(t + "s"); err == nil {
		return OfSpan(d.Milliseconds()), nil
	}
	return Value{}, fmt.Errorf("%q is no span of time: write it as 1h2m3.5s or in seconds", text)
}

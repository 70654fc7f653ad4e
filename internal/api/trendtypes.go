package api

import "ferry/internal/core/trend"

// StripView is a trend as a list shows it.
type StripView struct {
	trend.Strip
	// Failing is why what comes cannot be kept at the moment.
	Failing string `json:"failing,omitempty"`
}

// StripRequest begins to record points, for so many hours at most.
type StripRequest struct {
	Name   string   `json:"name"`
	Points []string `json:"points"`
	Hours  float64  `json:"hours"`
}

// ChartView is what pens of a trend had between two times, in microseconds since 1970. ToUs is
// now, where the trend is being recorded and the window goes on.
type ChartView struct {
	FromUs int64 `json:"fromUs"`
	ToUs   int64 `json:"toUs"`
	// EndUs is up to when the trend is known: its end, or now.
	EndUs int64        `json:"endUs"`
	Pens  []DrawnPen   `json:"pens"`
	Notes []trend.Note `json:"notes"`
}

// DrawnPen is one line of a chart: samples, each standing until the next.
type DrawnPen struct {
	Pen int `json:"pen"`
	// Into is set where the line is not the pen as it is, but what a crossing makes of it for
	// that other pen: both are then on one axis.
	Into *int `json:"into,omitempty"`
	// All is set where these are all samples of the window; else as many as a chart needs.
	All bool `json:"all"`
	// Count is how many there are in the window.
	Count int       `json:"count"`
	AtUs  []int64   `json:"atUs"`
	V     []float64 `json:"v"`
	// Gaps are the indices of those that are none and begin a gap, Doubts of those that are
	// doubtful.
	Gaps   []int `json:"gaps"`
	Doubts []int `json:"doubts"`
}

// SumView is what pens of a trend show between two times, in figures.
type SumView struct {
	FromUs int64       `json:"fromUs"`
	ToUs   int64       `json:"toUs"`
	Pens   []SummedPen `json:"pens"`
	// Lags are the delays from sources to far shores among the pens.
	Lags []LagView `json:"lags"`
}

// SummedPen is one pen in figures.
type SummedPen struct {
	Pen     int             `json:"pen"`
	Summary trend.Summary   `json:"summary"`
	Gaps    []trend.Missing `json:"gaps"`
	// MoreGaps is how many there are besides those.
	MoreGaps int           `json:"moreGaps,omitempty"`
	Seems    []trend.Seems `json:"seems"`
}

// LagView is how much later one pen shows what another did.
type LagView struct {
	Source   int    `json:"source"`
	Far      int    `json:"far"`
	Crossing string `json:"crossing"`
	// Why is why it cannot be told.
	Why string `json:"why,omitempty"`
	// Waits says what of the delay is the crossing's own rule.
	Waits string    `json:"waits,omitempty"`
	Lag   trend.Lag `json:"lag"`
}

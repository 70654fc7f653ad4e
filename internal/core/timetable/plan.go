package timetable

import (
	"ferry/internal/core/block"
	"ferry/internal/core/finding"
)

// Request is one read that the asking end of a link repeats. Times are in
// milliseconds.
type Request struct {
	ID        string `json:"id"`
	Link      string `json:"link"`
	Line      string `json:"line"`
	Device    string `json:"device"`
	Function  string `json:"function"`
	Operation string `json:"operation"`
	// Ranges are the runs of units that it asks for; Area and Start are those of
	// the first, and Address is that in the usual notation.
	Ranges  []block.Range `json:"ranges"`
	Area    string        `json:"area"`
	Start   uint32        `json:"start"`
	Address string        `json:"address"`
	Count   int           `json:"count"`  // units
	Unused  int           `json:"unused"` // units that no point covers
	Points  []string      `json:"points"`
	PaceMs  int           `json:"paceMs"`
	// WireMs is the time on the wire, DeviceMs that for which the device
	// thinks as a rule, WorstDeviceMs at worst. GapMs is the silence that must
	// follow before anything else is sent.
	WireMs        float64 `json:"wireMs"`
	DeviceMs      float64 `json:"deviceMs"`
	WorstDeviceMs float64 `json:"worstDeviceMs"`
	GapMs         float64 `json:"gapMs"`
	OffsetMs      float64 `json:"offsetMs"`
	// ResponseMs is the longest time from being due to being answered;
	// SlackMs is what that leaves of the pace. JitterMs is by how much the
	// response varies, OldestMs how old a value gets before the next comes.
	// All are zero for a read that happens once.
	ResponseMs float64 `json:"responseMs"`
	SlackMs    float64 `json:"slackMs"`
	JitterMs   float64 `json:"jitterMs"`
	OldestMs   float64 `json:"oldestMs"`
	// out is the octets of a request for places by their names.
	out int
	// Silent is set where the device is supposed to be silent.
	Silent bool `json:"silent,omitempty"`
}

// PlannedMs is the planned time from request to answer.
func (r *Request) PlannedMs() float64 { return r.WireMs + r.DeviceMs }

// LinkLoad is how full the connection of a link is, by that link.
type LinkLoad struct {
	Link        string  `json:"link"`
	Utilisation float64 `json:"utilisation"`
	RoundMs     float64 `json:"roundMs"`
	Requests    int     `json:"requests"`
	// PerSecond is how many requests a second the device has to answer.
	PerSecond float64 `json:"perSecond"`
	// Packets is how many packets a second go both ways together over a cyclic connection.
	Packets float64 `json:"packets"`
	// Writes is the share of the utilisation that crossings cause at most, Reports
	// that of what the device sends without being asked.
	Writes  float64 `json:"writes"`
	Reports float64 `json:"reports"`
}

// LineLoad is how full a line is: on Ethernet, its busiest connection.
type LineLoad struct {
	Line        string  `json:"line"`
	Utilisation float64 `json:"utilisation"` // 1 is full, more does not fit
	RoundMs     float64 `json:"roundMs"`     // one of every request, one after the other
	Holds       bool    `json:"holds"`       // whether every pace holds
	OldestMs    float64 `json:"oldestMs"`    // of its values, the oldest one can get
	Requests    int     `json:"requests"`
	Points      int     `json:"points"`
	// Alone is how many requests one for each point would be, Merged how many
	// there are if only neighbours of one pace are joined; with what they cost.
	Alone             int     `json:"alone"`
	AloneUtilisation  float64 `json:"aloneUtilisation"`
	Merged            int     `json:"merged"`
	MergedUtilisation float64 `json:"mergedUtilisation"`
	// Cyclic is the share taken by traffic that nobody requests, Writes that
	// of crossings; Loads is how many of either there are.
	Cyclic float64 `json:"cyclic"`
	Writes float64 `json:"writes"`
	Loads  int     `json:"loads"`
}

// Plan is the compiled timetable of a site.
type Plan struct {
	Lines    []LineLoad        `json:"lines"`
	Links    []LinkLoad        `json:"links"`
	Requests []Request         `json:"requests"`
	Loads    []Load            `json:"loads"`
	Findings []finding.Finding `json:"findings"`

	resources []*resource
}

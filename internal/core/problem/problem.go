// Package problem is the one shape of an error that a person gets to see.
package problem

import "errors"

// Problem says what happened, where, and what to do about it.
type Problem struct {
	// Code is stable and meant for programs, such as "stale" or "bad-cell".
	Code string `json:"code"`
	// Sentence says what happened, in plain words.
	Sentence string `json:"sentence"`
	// Where names the place: a row and column, a device, a path in a file.
	Where string `json:"where,omitempty"`
	// Do says what to do about it.
	Do string `json:"do,omitempty"`
	// Path is where in a document the place is, such as devices[3].points[7].address;
	// empty where it is in none.
	Path string `json:"path,omitempty"`
}

// Error prints the place, the sentence and the remedy in one line.
func (p *Problem) Error() string {
	text := p.Sentence
	if p.Where != "" {
		text = p.Where + ": " + text
	}
	if p.Do != "" {
		text += " " + p.Do
	}
	return text
}

// New makes a problem without a place.
func New(code, sentence, do string) *Problem {
	return &Problem{Code: code, Sentence: sentence, Do: do}
}

// At returns a copy of p with its place set.
func (p *Problem) At(where string) *Problem {
	moved := *p
	moved.Where = where
	return &moved
}

// From returns err as a Problem: itself if it is one already, or its text
// under the given code.
func From(err error, code string) *Problem {
	var p *Problem
	if errors.As(err, &p) {
		return p
	}
	return &Problem{Code: code, Sentence: err.Error()}
}

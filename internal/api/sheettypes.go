package api

import (
	"ferry/internal/core/datasheet"
	"ferry/internal/core/layout"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// SheetsView lists the datasheets of the site and those that ship with Ferry,
// the structures, and how the devices stand to them.
type SheetsView struct {
	Seq        int64                `json:"seq"`
	Columns    []regmap.Column      `json:"columns"`
	Datasheets []SheetView          `json:"datasheets"`
	Structures []StructureView      `json:"structures"`
	Standings  []datasheet.Standing `json:"standings"`
	Versions   map[string]int64     `json:"versions"` // of datasheets and structures by id
	Rules      []RuleView           `json:"rules"`
}

// SheetView is a datasheet; a shipped one is not of the site until it is placed.
type SheetView struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Remark  string     `json:"remark"`
	Map     string     `json:"map"`
	Shipped bool       `json:"shipped"`
	Rows    []SheetRow `json:"rows"`
	// ThinkMs is how long the manual says that the device thinks, 0 for not
	// stated; Access is what must be switched on before it answers.
	ThinkMs int               `json:"thinkMs"`
	Access  []site.AccessLine `json:"access"`
}

// SheetRow is one point of a datasheet, as cells in the order of the columns.
type SheetRow struct {
	ID     string   `json:"id"`
	Useful bool     `json:"useful"`
	Cells  []string `json:"cells"`
}

// RuleView is a layout rule with its title.
type RuleView struct {
	Rule  layout.Rule `json:"rule"`
	Title string      `json:"title"`
}

// StructureView is a structure with the layout of its elements by each rule.
type StructureView struct {
	site.Structure
	Laid []LaidView `json:"laid"`
}

// LaidView is a structure laid out by one rule.
type LaidView struct {
	Rule   layout.Rule  `json:"rule"`
	Bytes  int          `json:"bytes"`
	Places []PlacedView `json:"places"`
}

// PlacedView is where one element lies, from the start of the structure.
type PlacedView struct {
	Path     string `json:"path"`
	Type     string `json:"type"`
	Byte     int    `json:"byte"`
	Bit      int    `json:"bit"` // of the byte, -1 for a value of whole bytes
	Register string `json:"register"`
}

// PlaceRequest places a datasheet or a structure on devices, in one step.
type PlaceRequest struct {
	Datasheet string        `json:"datasheet,omitempty"`
	Structure string        `json:"structure,omitempty"`
	All       bool          `json:"all"`
	On        []PlaceTarget `json:"on"`
}

// PlaceTarget is one device with its prefix and its shift, or, for a structure,
// where it begins.
type PlaceTarget struct {
	Device string      `json:"device"`
	Map    string      `json:"map,omitempty"` // of its maps, by its protocol; empty for its own
	Prefix string      `json:"prefix"`
	Shift  int         `json:"shift"`
	Start  string      `json:"start,omitempty"`
	Rule   layout.Rule `json:"rule,omitempty"`
	Pace   string      `json:"pace,omitempty"`
}

// KeepRequest makes a datasheet of a device's map.
type KeepRequest struct {
	Device string `json:"device"`
	Name   string `json:"name"`
	Prefix string `json:"prefix"`
}

// SheetCellsRequest changes cells of a datasheet; the devices that follow it
// change with it.
type SheetCellsRequest struct {
	Base   int64       `json:"base"`
	Cells  []SheetCell `json:"cells"`
	Remove []string    `json:"remove"` // points
	Add    []string    `json:"add"`    // names of new points
	// ThinkMs and Access replace those of the datasheet where they are given.
	ThinkMs *int               `json:"thinkMs,omitempty"`
	Access  *[]site.AccessLine `json:"access,omitempty"`
}

// SheetCell is one cell of a datasheet; the column useful takes yes and no.
type SheetCell struct {
	Point  string        `json:"point"`
	Column regmap.Column `json:"column"`
	Text   string        `json:"text"`
}

// StructureRequest keeps a structure; Base is the version that was seen, 0 for a
// new one.
type StructureRequest struct {
	Base      int64          `json:"base"`
	Structure site.Structure `json:"structure"`
}

// ReturnRequest brings points back to their datasheet.
type ReturnRequest struct {
	Placement string   `json:"placement"`
	Points    []string `json:"points"`
}

package files

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"time"

	"ferry/internal/core/checkout"
	"ferry/internal/core/finding"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
)

// The format of a pack that comes back into Ferry.
const (
	PackFormat  = "ferry-pack"
	PackVersion = 1
)

// PackFile is a pack as Ferry reads it: the site, and what a site file does not have. Its
// findings and steps are for other programs; Ferry leaves them alone.
type PackFile struct {
	Format    string              `json:"format"`
	Version   int                 `json:"version"`
	MadeAt    time.Time           `json:"madeAt"`
	By        string              `json:"by"`
	Mode      string              `json:"mode"`
	Seq       int64               `json:"seq"`
	Site      *site.Site          `json:"site"`
	Proofs    []checkout.Proved   `json:"proofs"`
	Snapshots []checkout.Snapshot `json:"snapshots"`
	Findings  []finding.Finding   `json:"findings"`
	Steps     []PackStep          `json:"steps"`
}

// PackStep is a change of the site.
type PackStep struct {
	Seq  int64     `json:"seq"`
	At   time.Time `json:"at"`
	Who  string    `json:"who"`
	What string    `json:"what"`
}

// WritePackJSON writes a pack for Ferry and other programs.
func WritePackJSON(w io.Writer, pack *PackFile) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", " ")
	return e.Encode(pack)
}

// ReadSiteOrPack reads a site file, or a pack with its proofs and snapshots. It is taken whole
// or refused whole.
func ReadSiteOrPack(data []byte) (*PackFile, error) {
	var head struct {
		Format  string          `json:"format"`
		Version int             `json:"version"`
		Site    json.RawMessage `json:"site"`
	}
	data = bytes.TrimPrefix(data, []byte("\xEF\xBB\xBF"))
	if err := json.Unmarshal(data, &head); err != nil || head.Format != PackFormat {
		s, err := ReadSite(data)
		return &PackFile{Site: s}, err
	}
	if head.Version > PackVersion || head.Version < 1 {
		return nil, problem.New("newer-version",
			fmt.Sprintf("The pack has version %d of its format, and this Ferry reads up to %d.", head.Version,
				PackVersion), "Open it with a newer Ferry.").At("version")
	}
	next, err := ReadSite(head.Site) // strictly, as a site file
	if err != nil {
		return nil, err
	}
	var pack PackFile
	if err := json.Unmarshal(data, &pack); err != nil {
		return nil, placed(data, err)
	}
	pack.Site = next
	for i := range pack.Proofs {
		p := &pack.Proofs[i]
		if p.Point == "" || p.AtMs <= 0 || p.Who == "" || !known(p.Result) {
			return nil, problem.New("invalid", fmt.Sprintf("Proof %d of the pack says not of what, by whom, when, or with what "+
				"result.", i+1), "Hand the pack out again.").At(fmt.Sprintf("proofs[%d]", i))
		}
	}
	return &pack, nil
}

func known(r checkout.Result) bool {
	switch r {
	case checkout.Right, checkout.Wrong, checkout.Cannot, checkout.Withdrawn:
		return true
	}
	return false
}

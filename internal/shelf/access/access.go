// Package access holds what must be switched on in the devices of the shipped
// datasheets before they answer.
package access

import (
	"bytes"
	_ "embed"
	"encoding/csv"
	"fmt"
	"sync"

	"ferry/internal/core/site"
)

//go:embed access.csv
var table []byte

// Lines returns the access lines by the name of the datasheet's file, and by
// that of the model. They are not to be changed.
var Lines = sync.OnceValue(func() map[string][]site.AccessLine {
	rows, err := csv.NewReader(bytes.NewReader(table)).ReadAll()
	if err != nil {
		panic("access.csv: " + err.Error()) // it is embedded above, and a test reads it
	}
	lines := map[string][]site.AccessLine{}
	for _, row := range rows[1:] {
		sheet, model := row[0], row[1]
		line := site.AccessLine{ID: fmt.Sprintf("%s-%d", sheet, len(lines[sheet])+1), Kind: site.AccessKind(row[2]),
			Text: row[3]}
		lines[sheet], lines[model] = append(lines[sheet], line), append(lines[model], line)
	}
	return lines
})

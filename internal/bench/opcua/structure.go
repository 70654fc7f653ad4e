package opcua

import (
	"strings"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/protocol"
	target "ferry/internal/target/opcua"
)

// structure is a node that holds several values, each with a name.
type structure struct {
	host   *host
	at     int // in the list of variables
	held   []protocol.Held
	fields []target.Field
}

// add takes in a value; one inside of another structure is passed over.
func (s *structure) add(name string, held protocol.Held, kind ua.TypeID) {
	if strings.Contains(name, ".") {
		return
	}
	s.held = append(s.held, held)
	s.fields = append(s.fields, target.Field{Name: name, Type: kind})
}

func (s *structure) read() *ua.DataValue {
	var values []any
	for i, held := range s.held {
		v, ok := s.host.of.Memory.Value(held.Address)
		if !ok {
			return target.Bad(ua.StatusBadNodeIDUnknown)
		}
		values = append(values, target.Typed(v, s.fields[i].Type))
	}
	return s.host.marked(target.Structure(values))
}

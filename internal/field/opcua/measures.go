package opcua

import (
	"context"
	"math"

	"github.com/gopcua/opcua/ua"

	family "ferry/internal/core/family/opcua"
)

// measure is what a variable says of its value: the unit, empty for none, and the range, nil
// for none.
type measure struct {
	unit      string
	low, high *float64
}

// measures asks variables for their units and ranges (OPC 10000-8, clause 5.3.2): where the two
// properties are, and then what they say. A server that does not follow names has told none.
func (c *conn) measures(ctx context.Context, variables []listed) ([]measure, error) {
	properties := []string{family.PropertyUnit, family.PropertyRange}
	list := make([]measure, len(variables))
	request := &ua.TranslateBrowsePathsToNodeIDsRequest{}
	for _, v := range variables {
		for _, name := range properties {
			request.BrowsePaths = append(request.BrowsePaths, &ua.BrowsePath{StartingNode: v.id,
				RelativePath: &ua.RelativePath{Elements: []*ua.RelativePathElement{{
					ReferenceTypeID: ua.NewNumericNodeID(0, idHasProperty), IncludeSubtypes: true,
					TargetName: &ua.QualifiedName{Name: name}}}}})
		}
	}
	answer, err := send[*ua.TranslateBrowsePathsToNodeIDsResponse](ctx, c.session, request)
	if _, refused := status(err); refused {
		return list, nil
	} else if err != nil {
		return nil, err
	}
	var of []int
	var reads []*ua.ReadValueID
	for i, r := range answer.Results {
		if i < len(request.BrowsePaths) && r != nil && len(r.Targets) > 0 && r.Targets[0] != nil &&
			r.Targets[0].TargetID != nil && r.Targets[0].TargetID.NodeID != nil {
			of = append(of, i/len(properties))
			reads = append(reads, &ua.ReadValueID{NodeID: r.Targets[0].TargetID.NodeID, AttributeID: ua.AttributeIDValue})
		}
	}
	if len(reads) == 0 {
		return list, nil
	}
	values, err := c.read(ctx, reads)
	if err != nil {
		return nil, err
	}
	for i, v := range values {
		if object, ok := v.Value.Value().(*ua.ExtensionObject); ok && object != nil {
			list[of[i]].take(object.Value)
		}
	}
	return list, nil
}

// take adds what one of the properties says. A range that bounds nothing is none.
func (m *measure) take(said any) {
	switch said := said.(type) {
	case *ua.EUInformation:
		if said.DisplayName != nil {
			m.unit = said.DisplayName.Text
		}
	case *ua.Range:
		if low, high := said.Low, said.High; low < high && !math.IsInf(low, 0) && !math.IsInf(high, 0) {
			m.low, m.high = &low, &high
		}
	}
}

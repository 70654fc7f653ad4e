package opcua

import (
	"context"
	"fmt"
	"slices"

	"github.com/gopcua/opcua/ua"
)

// limits are how many nodes one request may be about, as the settings have it, or less where the
// server says so (OPC 10000-5, clause 6.3.11).
type limits struct{ reads, browses, translates, monitors int }

// operations are the nodes in which a server says its limits.
var operations = []struct {
	id uint32
	of func(*limits) *int
}{{11705, func(l *limits) *int { return &l.reads }}, {11710, func(l *limits) *int { return &l.browses }},
	{11712, func(l *limits) *int { return &l.translates }}, {11714, func(l *limits) *int { return &l.monitors }}}

// limit takes in what a server says of its limits; where it says nothing, or 0, it has none.
func (s *session) limit(values []*ua.DataValue) {
	for i, v := range values {
		if n, ok := v.Value.Value().(uint32); ok && n > 0 {
			of := operations[i].of(&s.limits)
			*of = min(*of, int(min(n, 10_000)))
		}
	}
}

// read reads attributes; each of the answers has a value, if only an empty one.
func (s *session) read(ctx context.Context, list []*ua.ReadValueID) (values []*ua.DataValue, err error) {
	for some := range slices.Chunk(list, s.limits.reads) {
		for _, each := range some {
			if each.DataEncoding == nil {
				each.DataEncoding = &ua.QualifiedName{}
			}
		}
		answer, err := send[*ua.ReadResponse](ctx, s,
			&ua.ReadRequest{NodesToRead: some, TimestampsToReturn: ua.TimestampsToReturnBoth})
		if err != nil {
			return nil, err
		}
		if len(answer.Results) != len(some) {
			return nil, fmt.Errorf("the server answers %d of %d reads", len(answer.Results), len(some))
		}
		for _, v := range answer.Results {
			if v == nil {
				v = &ua.DataValue{Status: ua.StatusBadDecodingError}
			}
			if v.Value == nil {
				v.Value = &ua.Variant{}
			}
			values = append(values, v)
		}
	}
	return values, nil
}

// browse asks what nodes lead to by references of a kind. There are as many results as nodes.
func (s *session) browse(ctx context.Context, most int, by uint32, nodes []*ua.NodeID) (results []*ua.BrowseResult,
	err error) {
	for some := range slices.Chunk(nodes, s.limits.browses) {
		answer, err := send[*ua.BrowseResponse](ctx, s, browseOf(most, by, some...))
		if err != nil {
			return nil, err
		}
		for i := range some {
			result := &ua.BrowseResult{}
			if i < len(answer.Results) && answer.Results[i] != nil {
				result = answer.Results[i]
			}
			results = append(results, result)
		}
	}
	return results, nil
}

// more asks where a server goes on with a list of references; all is false where the rest is not
// wanted.
func (s *session) more(ctx context.Context, all bool, points ...[]byte) ([]*ua.BrowseResult, error) {
	answer, err := send[*ua.BrowseNextResponse](ctx, s,
		&ua.BrowseNextRequest{ContinuationPoints: points, ReleaseContinuationPoints: !all})
	if err != nil {
		return nil, err
	}
	return answer.Results, nil
}

// leads reports of nodes whether they have others as components. A server that does not say has
// told none.
func (s *session) leads(ctx context.Context, nodes []*ua.NodeID) ([]bool, error) {
	leads := make([]bool, len(nodes))
	results, err := s.browse(ctx, 1, idHasComponent, nodes)
	if _, refused := status(err); refused {
		return leads, nil
	} else if err != nil {
		return nil, err
	}
	var left [][]byte
	for i, r := range results {
		leads[i] = len(r.References) > 0 || r.StatusCode == ua.StatusBadNoContinuationPoints
		if len(r.ContinuationPoint) > 0 {
			left = append(left, r.ContinuationPoint)
		}
	}
	for some := range slices.Chunk(left, s.limits.browses) { // else the server keeps them
		if _, err := s.more(ctx, false, some...); err != nil {
			if _, refused := status(err); !refused {
				return nil, err
			}
		}
	}
	return leads, nil
}

// properties looks for properties of nodes by their names, and reads them: for each node as many
// values as names, nil where there is none. A server that does not follow names has told none.
func (s *session) properties(ctx context.Context, nodes []*ua.NodeID, names ...string) ([]any, error) {
	found := make([]any, len(nodes)*len(names))
	var paths []*ua.BrowsePath
	for _, id := range nodes {
		for _, name := range names {
			paths = append(paths, &ua.BrowsePath{StartingNode: id,
				RelativePath: &ua.RelativePath{Elements: []*ua.RelativePathElement{{
					ReferenceTypeID: ua.NewNumericNodeID(0, idHasProperty), IncludeSubtypes: true,
					TargetName: &ua.QualifiedName{Name: name}}}}})
		}
	}
	var of []int
	var reads []*ua.ReadValueID
	for from := 0; from < len(paths); from += s.limits.translates {
		answer, err := send[*ua.TranslateBrowsePathsToNodeIDsResponse](ctx, s,
			&ua.TranslateBrowsePathsToNodeIDsRequest{BrowsePaths: paths[from:min(len(paths), from+s.limits.translates)]})
		if _, refused := status(err); refused {
			return found, nil
		} else if err != nil {
			return nil, err
		}
		for i, r := range answer.Results {
			if from+i < len(paths) && r != nil && len(r.Targets) > 0 && r.Targets[0] != nil && r.Targets[0].TargetID != nil &&
				r.Targets[0].TargetID.NodeID != nil {
				of = append(of, from+i)
				reads = append(reads, &ua.ReadValueID{NodeID: r.Targets[0].TargetID.NodeID, AttributeID: ua.AttributeIDValue})
			}
		}
	}
	values, err := s.read(ctx, reads)
	if err != nil {
		return nil, err
	}
	for i, v := range values {
		found[of[i]] = v.Value.Value()
	}
	return found, nil
}

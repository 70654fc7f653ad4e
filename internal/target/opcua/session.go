package opcua

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gopcua/opcua/ua"
)

// session is a client that has been let in.
type session struct {
	*caller
	user   string
	secret string
	nonce  []byte // the last random octets that the client was given
	within time.Duration
	last   atomic.Int64 // when something came, in nanoseconds since 1970
	active atomic.Bool
	writes bool
	life   context.Context
	end    context.CancelFunc

	mu            sync.Mutex
	subscriptions map[uint32]*subscription
	items         int
	questions     []question // for news, the oldest first
	points        map[string][]*ua.ReferenceDescription
}

// question is one for news that waits for its answer.
type question struct {
	id      uint32
	request *ua.PublishRequest
	results []ua.StatusCode
}

func newSession(c *caller, within time.Duration) *session {
	s := &session{caller: c, within: within, subscriptions: map[uint32]*subscription{},
		points: map[string][]*ua.ReferenceDescription{}}
	s.life, s.end = context.WithCancel(c.server.life)
	s.heard()
	return s
}

func (s *session) heard() { s.last.Store(time.Now().UnixNano()) }

// expire ends a session from which nothing comes.
func (s *session) expire() {
	for {
		select {
		case <-s.life.Done():
			return
		case <-time.After(s.within / 4):
			if time.Since(time.Unix(0, s.last.Load())) > s.within {
				s.server.drop(s)
				return
			}
		}
	}
}

// activate lets a user in.
func (s *session) activate(r *ua.ActivateSessionRequest) (code ua.StatusCode, why string) {
	name, password := "", ""
	if !s.channel.Signed(r.ClientSignature, s.nonce) {
		return ua.StatusBadApplicationSignatureInvalid, "cannot show that its certificate is its own"
	}
	if r.UserIdentityToken != nil {
		switch t := r.UserIdentityToken.Value.(type) {
		case nil, *ua.AnonymousIdentityToken:
		case *ua.UserNameIdentityToken:
			name = t.UserName
			var err error
			if password, err = s.channel.Decipher("", t.Password, s.nonce); err != nil || name == "" {
				return ua.StatusBadIdentityTokenInvalid, "gave a name and password that cannot be read"
			}
		default:
			return ua.StatusBadIdentityTokenInvalid, "wanted to come in by something else than a name and a password"
		}
	}
	may, writes := s.server.config.User(name, password)
	if !may && name == "" {
		return ua.StatusBadIdentityTokenInvalid, "gave no name"
	}
	if !may {
		return ua.StatusBadIdentityTokenRejected, fmt.Sprintf("is not let in as %.40q", name)
	}
	s.writes, s.user = writes, name
	s.active.Store(true)
	return ua.StatusOK, ""
}

// answer answers what is not news.
func (s *session) answer(request ua.Request) (ua.Response, ua.StatusCode) {
	switch r := request.(type) {
	case *ua.CloseSessionRequest:
		return &ua.CloseSessionResponse{}, ua.StatusOK
	case *ua.ReadRequest:
		return s.read(r)
	case *ua.WriteRequest:
		return s.write(r)
	case *ua.BrowseRequest:
		return s.browse(r)
	case *ua.BrowseNextRequest:
		return s.browseNext(r)
	case *ua.TranslateBrowsePathsToNodeIDsRequest:
		return s.translate(r)
	case *ua.RegisterNodesRequest:
		return &ua.RegisterNodesResponse{RegisteredNodeIDs: r.NodesToRegister}, ua.StatusOK
	case *ua.UnregisterNodesRequest:
		return &ua.UnregisterNodesResponse{}, ua.StatusOK
	}
	return s.subscribing(request)
}

// node finds a node that is there.
func (s *session) node(id *ua.NodeID) *node {
	n := s.server.space.Load().find(id)
	if n != nil && n.variable != nil && s.server.config.Gone != nil && s.server.config.Gone(n.variable) {
		return nil
	}
	return n
}

// valueOf reads an attribute of a node, or one element of its value.
func (s *session) valueOf(r *ua.ReadValueID) *ua.DataValue {
	if r == nil {
		return Bad(ua.StatusBadNodeIDInvalid)
	}
	n := s.node(r.NodeID)
	if n == nil {
		return Bad(ua.StatusBadNodeIDUnknown)
	}
	return ranged(s.server.space.Load().attribute(n, r.AttributeID, s.writes), r.IndexRange)
}

// gave tells that the client was given the value of a node.
func (s *session) gave(r *ua.ReadValueID, reported bool) {
	if r == nil || r.AttributeID != ua.AttributeIDValue {
		return
	}
	if n := s.node(r.NodeID); n != nil && n.variable != nil && n.variable.Gave != nil {
		n.variable.Gave(s.by(), reported)
	}
}

func (s *session) read(r *ua.ReadRequest) (ua.Response, ua.StatusCode) {
	switch {
	case len(r.NodesToRead) == 0:
		return nil, ua.StatusBadNothingToDo
	case len(r.NodesToRead) > s.server.atOnce():
		return nil, ua.StatusBadTooManyOperations
	}
	if r.TimestampsToReturn > ua.TimestampsToReturnNeither {
		return nil, ua.StatusBadTimestampsToReturnInvalid
	}
	answer := &ua.ReadResponse{DiagnosticInfos: []*ua.DiagnosticInfo{}}
	for _, each := range r.NodesToRead {
		answer.Results = append(answer.Results, stamped(s.valueOf(each), r.TimestampsToReturn))
		s.gave(each, false)
	}
	return answer, ua.StatusOK
}

func (s *session) write(r *ua.WriteRequest) (ua.Response, ua.StatusCode) {
	switch {
	case len(r.NodesToWrite) == 0:
		return nil, ua.StatusBadNothingToDo
	case len(r.NodesToWrite) > s.server.atOnce():
		return nil, ua.StatusBadTooManyOperations
	}
	answer := &ua.WriteResponse{DiagnosticInfos: []*ua.DiagnosticInfo{}}
	for _, each := range r.NodesToWrite {
		answer.Results = append(answer.Results, s.put(each))
	}
	return answer, ua.StatusOK
}

// put writes one value.
func (s *session) put(w *ua.WriteValue) ua.StatusCode {
	if w == nil {
		return ua.StatusBadNodeIDInvalid
	}
	n := s.node(w.NodeID)
	switch {
	case n == nil:
		return ua.StatusBadNodeIDUnknown
	case w.AttributeID != ua.AttributeIDValue || n.variable == nil || !n.variable.Writable:
		return ua.StatusBadNotWritable
	case !s.writes:
		return ua.StatusBadUserAccessDenied
	case w.Value == nil || w.Value.Value == nil || w.Value.Value.Type() != n.variable.Type:
		return ua.StatusBadTypeMismatch
	case n.variable.WriteAt != nil:
		return n.variable.putRange(s.by(), w.Value.Value, w.IndexRange)
	case w.IndexRange != "":
		return ua.StatusBadIndexRangeNoData
	case w.Value.Value.Has(ua.VariantArrayValues):
		return ua.StatusBadTypeMismatch
	case n.variable.Write == nil:
		return ua.StatusBadNotWritable
	}
	return n.variable.Write(s.by(), w.Value.Value.Value())
}

func (s *session) by() By { return By{s.conn, s.user} }

// browse lists what nodes lead to, and what leads to them: by hierarchical references, and by types
// forward alone.
func (s *session) browse(r *ua.BrowseRequest) (ua.Response, ua.StatusCode) {
	switch {
	case len(r.NodesToBrowse) == 0:
		return nil, ua.StatusBadNothingToDo
	case len(r.NodesToBrowse) > s.server.atOnce():
		return nil, ua.StatusBadTooManyOperations
	}
	most := int(r.RequestedMaxReferencesPerNode)
	if most == 0 || most > mostReferences {
		most = mostReferences
	}
	answer := &ua.BrowseResponse{DiagnosticInfos: []*ua.DiagnosticInfo{}}
	for _, each := range r.NodesToBrowse {
		result := &ua.BrowseResult{References: []*ua.ReferenceDescription{}}
		n := (*node)(nil)
		if each != nil {
			n = s.node(each.NodeID)
		}
		if n == nil {
			result.StatusCode = ua.StatusBadNodeIDUnknown
		} else {
			s.page(result, s.references(n, each), most)
		}
		answer.Results = append(answer.Results, result)
	}
	return answer, ua.StatusOK
}

// above says which kinds of references are subtypes of which.
var above = map[uint32][]uint32{organizes: {hierarchical, references}, hasSubtype: {hasChild, hierarchical, references},
	hasProperty: {aggregates, hasChild, hierarchical, references}, hasComponent: {aggregates, hasChild, hierarchical,
		references},
	hasEncoding: {nonHierarchical, references}, hasTypeDefinition: {nonHierarchical, references}}

// references are those of a node that somebody asks for.
func (s *session) references(n *node, asked *ua.BrowseDescription) (list []*ua.ReferenceDescription) {
	want := uint32(0)
	if asked.ReferenceTypeID != nil {
		want = asked.ReferenceTypeID.IntID()
	}
	add := func(to *node, by uint32, forward bool) {
		fits := want == 0 || want == by || asked.IncludeSubtypes && slices.Contains(above[by], want)
		if fits && (asked.NodeClassMask == 0 || asked.NodeClassMask&uint32(to.class) != 0) && s.node(to.id) != nil {
			list = append(list, describe(to, by, forward))
		}
	}
	if asked.BrowseDirection != ua.BrowseDirectionInverse {
		for _, inside := range n.inside {
			add(inside, inside.by, true)
		}
		if kind := s.server.space.Load().find(ua.NewNumericNodeID(0, n.kind)); kind != nil {
			add(kind, hasTypeDefinition, true)
		}
	}
	if asked.BrowseDirection != ua.BrowseDirectionForward && n.in != nil {
		add(n.in, n.by, false)
	}
	return list
}

// mostPoints is how many continuations a session may have open.
const mostPoints = 100

// page puts as many references into a result as it may have, and keeps the others.
func (s *session) page(result *ua.BrowseResult, list []*ua.ReferenceDescription, most int) {
	result.References = append(result.References, list[:min(len(list), most)]...)
	if len(list) <= most {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.points) >= mostPoints {
		result.StatusCode, result.References = ua.StatusBadNoContinuationPoints, nil
		return
	}
	point := strconv.FormatUint(uint64(s.server.ids.next()), 10) + " " + strconv.Itoa(most)
	s.points[point] = list[most:]
	result.ContinuationPoint = []byte(point)
}

func (s *session) browseNext(r *ua.BrowseNextRequest) (ua.Response, ua.StatusCode) {
	answer := &ua.BrowseNextResponse{DiagnosticInfos: []*ua.DiagnosticInfo{}}
	for _, point := range r.ContinuationPoints {
		result := &ua.BrowseResult{References: []*ua.ReferenceDescription{}}
		s.mu.Lock()
		list, known := s.points[string(point)]
		delete(s.points, string(point))
		s.mu.Unlock()
		switch {
		case !known:
			result.StatusCode = ua.StatusBadContinuationPointInvalid
		case !r.ReleaseContinuationPoints:
			s.page(result, list, mostReferences)
		}
		answer.Results = append(answer.Results, result)
	}
	return answer, ua.StatusOK
}

// translate follows names from a node on.
func (s *session) translate(r *ua.TranslateBrowsePathsToNodeIDsRequest) (ua.Response, ua.StatusCode) {
	answer := &ua.TranslateBrowsePathsToNodeIDsResponse{DiagnosticInfos: []*ua.DiagnosticInfo{}}
	for _, path := range r.BrowsePaths {
		result := &ua.BrowsePathResult{StatusCode: ua.StatusBadNoMatch, Targets: []*ua.BrowsePathTarget{}}
		if path != nil && path.RelativePath != nil {
			at := s.node(path.StartingNode)
			for _, step := range path.RelativePath.Elements {
				var next *node
				if at != nil && step != nil && step.TargetName != nil {
					for _, inside := range at.inside {
						if inside.name.Name == step.TargetName.Name && inside.name.NamespaceIndex == step.TargetName.NamespaceIndex {
							next = inside
						}
					}
				}
				at = next
			}
			if at != nil {
				result.StatusCode = ua.StatusOK
				result.Targets = append(result.Targets, &ua.BrowsePathTarget{TargetID: ua.NewExpandedNodeID(at.id, "", 0),
					RemainingPathIndex: 0xFFFFFFFF})
			}
		}
		answer.Results = append(answer.Results, result)
	}
	return answer, ua.StatusOK
}

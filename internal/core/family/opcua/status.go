package opcua

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Status codes (OPC 10000-6, annex A.2; OPC 10000-4, clause 7.38). The two highest bits are the
// severity: 00 good, 01 uncertain, 10 bad.
const (
	BadUnexpected         = 0x80010000
	BadOutOfMemory        = 0x80030000
	BadCommunication      = 0x80050000
	BadEncodingLimits     = 0x80080000
	BadTimeout            = 0x800A0000
	BadServiceUnsupported = 0x800B0000
	BadServerHalted       = 0x800E0000
	BadTooManyOperations  = 0x80100000
	BadCertificateInvalid = 0x80120000
	BadSecurityChecks     = 0x80130000
	BadCertificateTime    = 0x80140000
	BadCertificateHost    = 0x80160000
	BadCertificateURI     = 0x80170000
	BadCertificateUse     = 0x80180000
	BadCertificateTrust   = 0x801A0000
	BadCertificateRevoked = 0x801D0000
	BadUserDenied         = 0x801F0000
	BadTokenInvalid       = 0x80200000
	BadTokenRejected      = 0x80210000
	BadSessionID          = 0x80250000
	BadSessionClosed      = 0x80260000
	BadNoSubscription     = 0x80790000
	BadSubscriptionID     = 0x80280000
	BadNotConnected       = 0x808A0000
	BadDeviceFailure      = 0x808B0000
	BadSensorFailure      = 0x808C0000
	BadOutOfService       = 0x808D0000
	BadNodeIDInvalid      = 0x80330000
	BadNodeIDUnknown      = 0x80340000
	BadAttribute          = 0x80350000
	BadIndexRange         = 0x80360000
	BadIndexRangeNoData   = 0x80370000
	BadNotReadable        = 0x803A0000
	BadNotWritable        = 0x803B0000
	BadOutOfRange         = 0x803C0000
	BadModeRejected       = 0x80540000
	BadPolicyRejected     = 0x80550000
	BadTooManySessions    = 0x80560000
	BadUserSignature      = 0x80570000
	BadTypeMismatch       = 0x80740000
	BadTooManySubs        = 0x80770000
	BadTooManyPublish     = 0x80780000
	BadTooManyMonitored   = 0x80DB0000
	BadTCPEndpointURL     = 0x80830000
	BadWaitingForData     = 0x80320000
	BadShutdown           = 0x800C0000
	UncertainLastUsable   = 0x40900000
	UncertainSensor       = 0x40930000
	UncertainRange        = 0x40940000
	UncertainSubNormal    = 0x40950000
	UncertainSubstitute   = 0x40910000
	UncertainInitial      = 0x40920000
	GoodLocalOverride     = 0x00960000
	GoodOverload          = 0x002F0000
	GoodClamped           = 0x00300000
)

// QualityOf is what a status code says of a value, and why it is not good.
func QualityOf(status uint32) (value.Quality, string) {
	switch status >> 30 {
	case 0:
		return value.Good, ""
	case 1:
		return value.Doubtful, Words(status)
	}
	return value.Bad, Words(status)
}

// Remark is what a status says of a value that is good, empty for nothing.
func Remark(status uint32) string {
	if status>>30 != 0 || status&^0xFFFF == 0 {
		return ""
	}
	return Words(status)
}

// Words is a status code in words, with its name and number.
func Words(status uint32) string {
	base := status &^ 0xFFFF
	if d, ok := declined[int(base)]; ok {
		return fmt.Sprintf("%s (%s)", clause(d.Means), d.Title)
	}
	switch status >> 30 {
	case 0:
		return fmt.Sprintf("good, with a remark (0x%08X)", status)
	case 1:
		return fmt.Sprintf("the server calls it uncertain (0x%08X)", status)
	}
	return fmt.Sprintf("the server calls it bad (0x%08X)", status)
}

// refusals are the codes by which a server says that it does not do what is asked of a node; the
// others say something of its value.
var refusals = []uint32{BadNodeIDInvalid, BadNodeIDUnknown, BadAttribute, BadIndexRange, BadIndexRangeNoData,
	BadNotReadable, BadNotWritable, BadUserDenied, BadTypeMismatch, BadOutOfRange}

// Refuses reports whether a status code is a refusal, and says nothing of a value.
func Refuses(status uint32) bool { return slices.Contains(refusals, status&^0xFFFF) }

// clause is a sentence as part of another.
func clause(sentence string) string {
	return strings.ToLower(sentence[:1]) + strings.TrimSuffix(sentence[1:], ".")
}

// Codes lists the codes that have a name.
func (rules) Codes() []int { return slices.Sorted(maps.Keys(declined)) }

// Decline explains a status code.
func (rules) Decline(code int) protocol.Declined {
	if d, ok := declined[code&^0xFFFF]; ok {
		return d
	}
	return protocol.Declined{Title: fmt.Sprintf("status 0x%08X", code), Means: "The server refuses.",
		Causes: "Look into its log, and in the standard, annex A.2 of part 6.", Unsure: true}
}

var declined = map[int]protocol.Declined{
	BadUnexpected: {Title: "Bad_UnexpectedError", Means: "Something in the server went wrong.",
		Causes: "Look into its log.", Unsure: true},
	BadOutOfMemory: {Title: "Bad_OutOfMemory", Means: "The server has no memory left.",
		Causes: "It has too many sessions or subscriptions: end those that nobody needs.", Unsure: true},
	BadCommunication: {Title: "Bad_CommunicationError", Means: "The server does not reach what is behind it.",
		Causes: "Look at the link from the server to the device behind it.", Unsure: true},
	BadEncodingLimits: {Title: "Bad_EncodingLimitsExceeded", Means: "The message is larger than one end takes.",
		Causes: "Ask for fewer nodes at once."},
	BadTimeout: {Title: "Bad_Timeout", Means: "The server did not get done in time.",
		Causes: "It is busy, or waits for what is behind it.", Unsure: true},
	BadServiceUnsupported: {Title: "Bad_ServiceUnsupported", Means: "The server does not know this service.",
		Causes: "It is a small server: read instead of subscribing, or the other way round."},
	BadServerHalted: {Title: "Bad_ServerHalted", Means: "The server has stopped.", Causes: "Start its program.",
		Session: true},
	BadShutdown: {Title: "Bad_Shutdown", Means: "The server shuts down.", Causes: "Wait until it is back.",
		Session: true},
	BadTooManyOperations: {Title: "Bad_TooManyOperations", Means: "That were too many nodes in one message.",
		Causes: "Set how many go into one message to what the server takes."},
	BadCertificateInvalid: {Title: "Bad_CertificateInvalid",
		Means:  "The certificate of this end is none that the server can use.",
		Causes: "Make a new one, and have the server trust it.", Session: true},
	BadSecurityChecks: {Title: "Bad_SecurityChecksFailed",
		Means:  "The server refuses the certificate of this end, and says no more for safety.",
		Causes: "Have it trusted at the server: look among those that it rejected.", Session: true,
		Access: []string{"remote"}},
	BadCertificateTime: {Title: "Bad_CertificateTimeInvalid",
		Means:  "The certificate of this end is not valid at this time.",
		Causes: "Compare the clocks of both ends, and the dates of the certificate.", Session: true},
	BadCertificateHost: {Title: "Bad_CertificateHostNameInvalid", Means: "The certificate is for another host name.",
		Causes: "Reach the server by the name that is in its certificate.", Session: true},
	BadCertificateURI: {Title: "Bad_CertificateUriInvalid",
		Means:  "The certificate of this end names another application.",
		Causes: "Make a new one.", Session: true},
	BadCertificateUse: {Title: "Bad_CertificateUseNotAllowed", Means: "The certificate of this end is not made for this.",
		Causes: "Make a new one.", Session: true},
	BadCertificateTrust: {Title: "Bad_CertificateUntrusted",
		Means:  "The server does not trust the certificate of this end.",
		Causes: "Have it trusted at the server: look among those that it rejected.", Session: true,
		Access: []string{"remote"}},
	BadCertificateRevoked: {Title: "Bad_CertificateRevoked", Means: "The certificate of this end was revoked.",
		Causes: "Make a new one.", Session: true},
	BadUserDenied: {Title: "Bad_UserAccessDenied", Means: "The user may not do that.",
		Causes: "Give the user the right at the server, or choose another."},
	BadTokenInvalid: {Title: "Bad_IdentityTokenInvalid", Means: "The server takes no user of this kind.",
		Causes: "Look which kinds of users the endpoint offers.", Session: true},
	BadTokenRejected: {Title: "Bad_IdentityTokenRejected",
		Means:  "The server does not know the user, or not with this password.",
		Causes: "Compare both with what the server has.", Session: true},
	BadUserSignature: {Title: "Bad_UserSignatureInvalid", Means: "The user cannot show that the certificate is its own.",
		Causes: "Take the key that belongs to it.", Session: true},
	BadSessionID: {Title: "Bad_SessionIdInvalid", Means: "The server does not know the session any more.",
		Causes: "It was started again, or the session timed out.", Session: true},
	BadSessionClosed: {Title: "Bad_SessionClosed", Means: "The server has closed the session.",
		Causes: "Look into its log.", Session: true},
	BadNoSubscription: {Title: "Bad_NoSubscription", Means: "The server has no subscription of this session.",
		Causes: "It ended it for want of questions, or was started again."},
	BadSubscriptionID: {Title: "Bad_SubscriptionIdInvalid", Means: "The server does not know the subscription any more.",
		Causes: "It ended it for want of questions, or was started again."},
	BadWaitingForData: {Title: "Bad_WaitingForInitialData", Means: "The server has no value yet.",
		Causes: "Wait for the first one.", Unsure: true},
	BadNotConnected: {Title: "Bad_NotConnected", Means: "What is behind the server is not connected.",
		Causes: "Look at the link from the server to the device behind it.", Unsure: true},
	BadDeviceFailure: {Title: "Bad_DeviceFailure", Means: "The device behind the server has failed.",
		Causes: "Look at the device.", Unsure: true},
	BadSensorFailure: {Title: "Bad_SensorFailure", Means: "The sensor behind the server has failed.",
		Causes: "Look at the sensor."},
	BadOutOfService: {Title: "Bad_OutOfService", Means: "The source of the value is out of service.",
		Causes: "Put it into service."},
	BadNodeIDInvalid: {Title: "Bad_NodeIdInvalid", Means: "The server cannot read the identifier.",
		Causes: "Compare it with its model."},
	BadNodeIDUnknown: {Title: "Bad_NodeIdUnknown", Means: "The server has no such node.",
		Causes: "Compare the name letter by letter, capitals too, and look whether its namespaces have moved since."},
	BadAttribute: {Title: "Bad_AttributeIdInvalid", Means: "The node has no value.",
		Causes: "It is a folder or an object: choose a variable."},
	BadIndexRange: {Title: "Bad_IndexRangeInvalid", Means: "The element of an array is none.",
		Causes: "Count from 0."},
	BadIndexRangeNoData: {Title: "Bad_IndexRangeNoData", Means: "The array has no such element.",
		Causes: "Look how long it is."},
	BadNotReadable: {Title: "Bad_NotReadable", Means: "The node cannot be read.",
		Causes: "Look at its access, and at the rights of the user."},
	BadNotWritable: {Title: "Bad_NotWritable", Means: "The node cannot be written.",
		Causes: "Look at its access, and at the rights of the user."},
	BadOutOfRange: {Title: "Bad_OutOfRange", Means: "The value is outside of what the node takes.",
		Causes: "Look at its range."},
	BadModeRejected: {Title: "Bad_SecurityModeRejected", Means: "The server does not offer this security mode.",
		Causes: "Choose one of its endpoints.", Session: true},
	BadPolicyRejected: {Title: "Bad_SecurityPolicyRejected", Means: "The server does not offer this security policy.",
		Causes: "Choose one of its endpoints.", Session: true},
	BadTooManySessions: {Finding: "connection-limit", Title: "Bad_TooManySessions",
		Means:  "The server has as many sessions as it takes.",
		Causes: "End one that nobody needs: some programs leave theirs open.", Session: true},
	BadTypeMismatch: {Title: "Bad_TypeMismatch", Means: "The node takes a value of another type.",
		Causes: "Set the type of the point to that of the node."},
	BadTooManySubs: {Title: "Bad_TooManySubscriptions", Means: "The server has as many subscriptions as it takes.",
		Causes: "End one that nobody needs."},
	BadTooManyPublish: {Title: "Bad_TooManyPublishRequests", Means: "Too many questions wait at the server.",
		Causes: "It takes fewer at once.", Unsure: true},
	BadTooManyMonitored: {Title: "Bad_TooManyMonitoredItems", Means: "The server watches as many nodes as it can.",
		Causes: "Subscribe to fewer."},
	BadTCPEndpointURL: {Title: "Bad_TcpEndpointUrlInvalid", Means: "The server has no such endpoint.",
		Causes: "Compare the path with those that it offers.", Session: true},
	UncertainLastUsable: {Title: "Uncertain_LastUsableValue",
		Means:  "It is the last one that could be had: what is behind the server is silent.",
		Causes: "Look at the link from the server to the device behind it.", Unsure: true},
	UncertainSubstitute: {Title: "Uncertain_SubstituteValue", Means: "Somebody has put another value in its place.",
		Causes: "Ask who."},
	GoodLocalOverride: {Title: "Good_LocalOverride", Means: "It was set by hand at the source.",
		Causes: "Ask who, and whether it is meant to stay."},
	GoodClamped: {Title: "Good_Clamped", Means: "It was brought within its bounds.", Causes: "Look at the bounds."},
	GoodOverload: {Title: "Good_Overload", Means: "It was looked at more seldom than asked: the server is busy.",
		Causes: "Ask for fewer nodes, or more seldom."},
	UncertainInitial: {Title: "Uncertain_InitialValue", Means: "It is what stood there at the start.",
		Causes: "Wait for the first reading."},
	UncertainSensor: {Title: "Uncertain_SensorNotAccurate", Means: "The sensor is at its limit, or not accurate.",
		Causes: "Look at the sensor."},
	UncertainRange: {Title: "Uncertain_EngineeringUnitsExceeded", Means: "It is outside of the range of its unit.",
		Causes: "Look at its range."},
	UncertainSubNormal: {Title: "Uncertain_SubNormal", Means: "It comes from fewer sources than it should.",
		Causes: "Look at its sources."},
}

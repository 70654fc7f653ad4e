package opcua

import (
	"time"

	"github.com/gopcua/opcua/ua"
)

// Nodes of OPC UA itself (OPC 10000-6, annex A.3).
const (
	idRoot, idObjects, idTypes, idViews                                = 84, 85, 86, 87
	idObjectTypes, idVariableTypes, idDataTypes, idReferenceTypes      = 88, 89, 90, 91
	idServer, idServerArray, idNamespaceArray, idServerStatus          = 2253, 2254, 2255, 2256
	idStartTime, idCurrentTime, idState, idBuildInfo                   = 2257, 2258, 2259, 2260
	idProductURI, idProductName, idManufacturer, idSoftware            = 2262, 2261, 2263, 2264
	idServiceLevel, idCapabilities, idProfiles, idLocales, idContinues = 2267, 2268, 2269, 2271, 2735
	idLimits                                                           = 11704
)

// Kinds of references, and of what they lead to.
const (
	references, nonHierarchical, hierarchical, hasChild, aggregates   = 31, 32, 33, 34, 44
	organizes, hasSubtype, hasProperty, hasComponent, hasEncoding     = 35, 45, 46, 47, 38
	encodingType                                                      = 76
	hasTypeDefinition                                                 = 40
	folderType, baseObjectType, dataVariableType, propertyVar         = 61, 58, 63, 68
	serverType, capabilitiesType, limitsType, statusType, buildType   = 2004, 2013, 11564, 2138, 3051
	analogType, statesType, valuesType, rangeType, unitType, enumType = 2368, 2376, 11238, 884, 887, 7594
	binaryType                                                        = 2373
	dataStatus, dataState, dataBuild, dataText                        = 862, 852, 338, 21
)

// kinds are the types that are here, each behind the one that it is a subtype of (OPC 10000-5,
// clauses 6, 7, 11 and 12).
var kinds = []struct {
	class  ua.NodeClass
	in, id uint32
	name   string
}{
	{ua.NodeClassReferenceType, idReferenceTypes, references, "References"},
	{ua.NodeClassReferenceType, references, nonHierarchical, "NonHierarchicalReferences"},
	{ua.NodeClassReferenceType, nonHierarchical, hasTypeDefinition, "HasTypeDefinition"},
	{ua.NodeClassReferenceType, nonHierarchical, hasEncoding, "HasEncoding"},
	{ua.NodeClassReferenceType, references, hierarchical, "HierarchicalReferences"},
	{ua.NodeClassReferenceType, hierarchical, organizes, "Organizes"},
	{ua.NodeClassReferenceType, hierarchical, hasChild, "HasChild"},
	{ua.NodeClassReferenceType, hasChild, hasSubtype, "HasSubtype"},
	{ua.NodeClassReferenceType, hasChild, aggregates, "Aggregates"},
	{ua.NodeClassReferenceType, aggregates, hasProperty, "HasProperty"},
	{ua.NodeClassReferenceType, aggregates, hasComponent, "HasComponent"},
	{ua.NodeClassObjectType, idObjectTypes, baseObjectType, "BaseObjectType"},
	{ua.NodeClassObjectType, baseObjectType, encodingType, "DataTypeEncodingType"},
	{ua.NodeClassObjectType, baseObjectType, folderType, "FolderType"},
	{ua.NodeClassObjectType, baseObjectType, serverType, "ServerType"},
	{ua.NodeClassObjectType, baseObjectType, capabilitiesType, "ServerCapabilitiesType"},
	{ua.NodeClassObjectType, folderType, limitsType, "OperationLimitsType"},
	{ua.NodeClassVariableType, idVariableTypes, 62, "BaseVariableType"},
	{ua.NodeClassVariableType, 62, propertyVar, "PropertyType"},
	{ua.NodeClassVariableType, 62, dataVariableType, "BaseDataVariableType"},
	{ua.NodeClassVariableType, dataVariableType, statusType, "ServerStatusType"},
	{ua.NodeClassVariableType, dataVariableType, buildType, "BuildInfoType"},
	{ua.NodeClassVariableType, dataVariableType, 2365, "DataItemType"},
	{ua.NodeClassVariableType, 2365, analogType, "AnalogItemType"},
	{ua.NodeClassVariableType, 2365, 2372, "DiscreteItemType"},
	{ua.NodeClassVariableType, 2372, binaryType, "TwoStateDiscreteType"},
	{ua.NodeClassVariableType, 2372, statesType, "MultiStateDiscreteType"},
	{ua.NodeClassVariableType, 2372, valuesType, "MultiStateValueDiscreteType"},
	{ua.NodeClassDataType, idDataTypes, 24, "BaseDataType"},
	{ua.NodeClassDataType, 24, uint32(ua.TypeIDBoolean), "Boolean"},
	{ua.NodeClassDataType, 24, 26, "Number"},
	{ua.NodeClassDataType, 26, 27, "Integer"},
	{ua.NodeClassDataType, 27, uint32(ua.TypeIDSByte), "SByte"},
	{ua.NodeClassDataType, 27, uint32(ua.TypeIDInt16), "Int16"},
	{ua.NodeClassDataType, 27, uint32(ua.TypeIDInt32), "Int32"},
	{ua.NodeClassDataType, 27, uint32(ua.TypeIDInt64), "Int64"},
	{ua.NodeClassDataType, 26, 28, "UInteger"},
	{ua.NodeClassDataType, 28, uint32(ua.TypeIDByte), "Byte"},
	{ua.NodeClassDataType, 28, uint32(ua.TypeIDUint16), "UInt16"},
	{ua.NodeClassDataType, 28, uint32(ua.TypeIDUint32), "UInt32"},
	{ua.NodeClassDataType, 28, uint32(ua.TypeIDUint64), "UInt64"},
	{ua.NodeClassDataType, 26, uint32(ua.TypeIDFloat), "Float"},
	{ua.NodeClassDataType, 26, uint32(ua.TypeIDDouble), "Double"},
	{ua.NodeClassDataType, 24, uint32(ua.TypeIDString), "String"},
	{ua.NodeClassDataType, 24, uint32(ua.TypeIDDateTime), "DateTime"},
	{ua.NodeClassDataType, 24, uint32(ua.TypeIDByteString), "ByteString"},
	{ua.NodeClassDataType, 24, dataText, "LocalizedText"},
	{ua.NodeClassDataType, 24, 29, "Enumeration"},
	{ua.NodeClassDataType, 29, dataState, "ServerState"},
	{ua.NodeClassDataType, 24, 22, "Structure"},
	{ua.NodeClassDataType, 22, dataStatus, "ServerStatusDataType"},
	{ua.NodeClassDataType, 22, dataBuild, "BuildInfo"},
	{ua.NodeClassDataType, 22, rangeType, "Range"},
	{ua.NodeClassDataType, 22, unitType, "EUInformation"},
	{ua.NodeClassDataType, 22, enumType, "EnumValueType"},
}

// types puts the types into their folder.
func (s *space) types(folder *node) {
	for i, name := range []string{"ObjectTypes", "VariableTypes", "DataTypes", "ReferenceTypes"} {
		s.add(folder, organizes, 0, idObjectTypes+uint32(i), name, folderType)
	}
	for _, k := range kinds {
		by := uint32(hasSubtype)
		if k.in >= idObjectTypes && k.in <= idReferenceTypes {
			by = organizes
		}
		s.put(s.find(ua.NewNumericNodeID(0, k.in)), by, &node{id: ua.NewNumericNodeID(0, k.id), class: k.class,
			name: &ua.QualifiedName{Name: k.name}})
	}
}

// About is what a server tells of itself.
type About struct{ Manufacturer, Product, Version string }

// application is the address of an application.
func (a About) application() string { return "urn:ferry:" + a.Product }

// standard is what a server says of itself: what it is, since when, and how many nodes it takes
// with one request.
type standard struct {
	About
	began time.Time
	most  func() uint32
}

// build is which server it is.
func (own *standard) build() *ua.BuildInfo {
	return &ua.BuildInfo{ProductURI: "urn:ferry", ManufacturerName: own.Manufacturer, ProductName: own.Product,
		SoftwareVersion: own.Version, BuildNumber: own.Version, BuildDate: own.began}
}

// serverNodes are those with which each server says what it is (OPC 10000-5, clause 6.3).
func (s *space) serverNodes(objects *node, own *standard) {
	server := s.add(objects, organizes, 0, idServer, "Server", serverType)
	of := func(in *node, by, id uint32, name string, kind ua.TypeID, read func() any) *node {
		return s.put(in, by, &node{id: ua.NewNumericNodeID(0, id), class: ua.NodeClassVariable, kind: propertyVar,
			name: &ua.QualifiedName{Name: name}, variable: &Variable{Name: name, Type: kind,
				Read: func() *ua.DataValue { return Good(read()) }}})
	}
	whole := func(in *node, id, kind, data uint32, name string, read func() any) *node {
		n := of(in, hasComponent, id, name, ua.TypeIDExtensionObject,
			func() any { return ua.NewExtensionObject(read()) })
		n.kind, n.data = kind, data
		return n
	}
	of(server, hasProperty, idServerArray, "ServerArray", ua.TypeIDString,
		func() any { return []string{own.application()} })
	of(server, hasProperty, idNamespaceArray, "NamespaceArray", ua.TypeIDString, func() any { return s.namespaces })
	of(server, hasProperty, idServiceLevel, "ServiceLevel", ua.TypeIDByte, func() any { return byte(255) })
	status := whole(server, idServerStatus, statusType, dataStatus, "ServerStatus", func() any {
		return &ua.ServerStatusDataType{StartTime: own.began, CurrentTime: time.Now().UTC(), BuildInfo: own.build(),
			ShutdownReason: ua.NewLocalizedText("")}
	})
	of(status, hasComponent, idStartTime, "StartTime", ua.TypeIDDateTime, func() any { return own.began })
	of(status, hasComponent, idCurrentTime, "CurrentTime", ua.TypeIDDateTime, func() any { return time.Now().UTC() })
	of(status, hasComponent, idState, "State", ua.TypeIDInt32, func() any { return int32(0) }).data = dataState
	build := whole(status, idBuildInfo, buildType, dataBuild, "BuildInfo", func() any { return own.build() })
	for _, each := range []struct {
		id         uint32
		name, says string
	}{{idProductURI, "ProductUri", "urn:ferry"}, {idProductName, "ProductName", own.Product},
		{idManufacturer, "ManufacturerName", own.Manufacturer}, {idSoftware, "SoftwareVersion", own.Version}} {
		of(build, hasComponent, each.id, each.name, ua.TypeIDString, func() any { return each.says })
	}
	capabilities := s.add(server, hasComponent, 0, idCapabilities, "ServerCapabilities", capabilitiesType)
	of(capabilities, hasProperty, idProfiles, "ServerProfileArray", ua.TypeIDString, func() any { return []string{} })
	of(capabilities, hasProperty, idLocales, "LocaleIdArray", ua.TypeIDString, func() any { return []string{} })
	of(capabilities, hasProperty, idContinues, "MaxBrowseContinuationPoints", ua.TypeIDUint16,
		func() any { return uint16(mostPoints) })
	limits := s.add(capabilities, hasComponent, 0, idLimits, "OperationLimits", limitsType)
	for _, each := range []struct {
		id   uint32
		name string
	}{{11705, "MaxNodesPerRead"}, {11707, "MaxNodesPerWrite"}, {11710, "MaxNodesPerBrowse"},
		{11711, "MaxNodesPerRegisterNodes"},
		{11712, "MaxNodesPerTranslateBrowsePathsToNodeIds"}, {11714, "MaxMonitoredItemsPerCall"}} {
		of(limits, hasProperty, each.id, each.name, ua.TypeIDUint32, func() any { return own.most() })
	}
}

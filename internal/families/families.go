// Package families brings in every protocol family that Ferry speaks. It is the
// one place that lists them: a new one adds its lines here and its folders.
package families

import (
	_ "ferry/internal/bench/bacnet"
	_ "ferry/internal/bench/blocktcp"
	_ "ferry/internal/bench/dnp3"
	_ "ferry/internal/bench/enip"
	_ "ferry/internal/bench/iec61850"
	_ "ferry/internal/bench/modbus"
	_ "ferry/internal/bench/mqtt"
	_ "ferry/internal/bench/opcua"
	_ "ferry/internal/core/family/bacnet"
	_ "ferry/internal/core/family/blocktcp"
	_ "ferry/internal/core/family/dnp3"
	_ "ferry/internal/core/family/enip"
	_ "ferry/internal/core/family/iec61850"
	_ "ferry/internal/core/family/modbus"
	_ "ferry/internal/core/family/mqtt"
	_ "ferry/internal/core/family/opcua"
	_ "ferry/internal/field/bacnet"
	_ "ferry/internal/field/blocktcp"
	_ "ferry/internal/field/dnp3"
	_ "ferry/internal/field/enip"
	_ "ferry/internal/field/iec61850"
	_ "ferry/internal/field/modbus"
	_ "ferry/internal/field/mqtt"
	_ "ferry/internal/field/opcua"
)

package modbus

import (
	"encoding/binary"
	"errors"
	"fmt"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
)

var functionWords = map[byte]string{
	ReadCoils: "read coils", ReadDiscreteInputs: "read discrete inputs", ReadHoldingRegisters: "read holding registers",
	ReadInputRegisters: "read input registers", WriteSingleCoil: "write coil", WriteSingleRegister: "write register",
	WriteRegisters: "write registers", ReportServerID: "report server id", EncapsulatedTransfer: "device identification",
}

func functionWord(code byte) string {
	if word, ok := functionWords[code&^exceptionFlag]; ok {
		return word
	}
	return fmt.Sprintf("function %d", code)
}

// header labels the first octets of a frame, as far as it reaches.
func header(b []byte) []exchange.Field {
	var fields []exchange.Field
	add := func(from, to int, label, meaning string) {
		if to <= len(b) {
			fields = append(fields, exchange.Field{From: from, To: to, Label: label, Role: "frame", Meaning: meaning})
		}
	}
	number := func(at int) string {
		if at+2 > len(b) {
			return ""
		}
		return fmt.Sprint(binary.BigEndian.Uint16(b[at:]))
	}
	add(0, 2, "transaction", number(0))
	add(2, 4, "protocol", number(2))
	add(4, 6, "octets follow", number(4))
	if len(b) > 6 {
		add(6, 7, "unit", fmt.Sprint(b[6]))
	}
	if len(b) > 7 {
		add(7, 8, "function", functionWord(b[7]))
	}
	return fields
}

// DissectRequest labels the octets of a request.
func DissectRequest(b []byte) []exchange.Field {
	fields := header(b)
	if len(b) < 12 {
		return rest(fields, b)
	}
	start := binary.BigEndian.Uint16(b[8:])
	area := areaOf(b[7])
	where := address.Modbus.Short(address.At(area, uint32(start)))
	fields = append(fields, exchange.Field{From: 8, To: 10, Label: "from", Role: "data", Meaning: where})
	count := binary.BigEndian.Uint16(b[10:])
	switch b[7] {
	case WriteSingleCoil, WriteSingleRegister:
		fields = append(fields, exchange.Field{From: 10, To: 12, Label: "value", Role: "data", Meaning: fmt.Sprint(count)})
	default:
		fields = append(fields, exchange.Field{From: 10, To: 12, Label: "units", Role: "data", Meaning: fmt.Sprint(count)})
	}
	return rest(fields, b)
}

func areaOf(function byte) string {
	switch function &^ exceptionFlag {
	case ReadCoils, WriteSingleCoil:
		return address.Coils
	case ReadDiscreteInputs:
		return address.DiscreteInputs
	case ReadInputRegisters:
		return address.InputRegisters
	}
	return address.HoldingRegisters
}

// DissectAnswer labels the octets of an answer with their meaning, those of
// its data with the points that they hold. Where the answer is broken, the
// field that breaks it has the role "broken".
func DissectAnswer(request, b []byte, points []exchange.Labelled) []exchange.Field {
	fields := header(b)
	answer, err := Check(request, b)
	var broken *Broken
	if errors.As(err, &broken) {
		marked := false
		for i := range fields {
			if fields[i].From == broken.From {
				fields[i].Role, fields[i].Meaning, marked = "broken", broken.What, true
			}
		}
		if !marked && broken.From >= 8 && broken.From < len(b) {
			fields = append(fields, exchange.Field{From: broken.From, To: len(b), Label: "data", Role: "broken", Meaning: broken.What})
		}
		return rest(fields, b)
	}
	if answer.Exception != 0 {
		return append(fields, exchange.Field{From: 8, To: 9, Label: "exception", Role: "broken",
			Meaning: fmt.Sprintf("%d %s", answer.Exception, protocol.ModbusTCP.Decline(answer.Exception).Title)})
	}
	if b[7] < ReadCoils || b[7] > ReadInputRegisters || len(request) < 12 {
		return rest(fields, b)
	}
	fields = append(fields, exchange.Field{From: 8, To: 9, Label: "octets of data", Role: "frame", Meaning: fmt.Sprint(b[8])})
	area := areaOf(b[7])
	start, count := uint32(binary.BigEndian.Uint16(request[8:])), int(binary.BigEndian.Uint16(request[10:]))
	if b[7] <= ReadDiscreteInputs {
		return append(fields, exchange.SpreadBits(9, area, start, count, points)...)
	}
	return append(fields, exchange.SpreadWords(9, area, start, count, points)...)
}

// rest labels octets behind the last field as data.
func rest(fields []exchange.Field, b []byte) []exchange.Field {
	end := 0
	for _, f := range fields {
		end = max(end, f.To)
	}
	if end < len(b) {
		fields = append(fields, exchange.Field{From: end, To: len(b), Label: "data", Role: "data"})
	}
	return fields
}

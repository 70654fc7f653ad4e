package modbus

import (
	"encoding/binary"
	"errors"
	"fmt"

	"ferry/internal/core/block"
	family "ferry/internal/core/family/modbus"

	"ferry/internal/core/exchange"
)

var functionWords = map[byte]string{
	ReadCoils: "read coils", ReadDiscreteInputs: "read discrete inputs", ReadHoldingRegisters: "read holding registers",
	ReadInputRegisters: "read input registers", WriteSingleCoil: "write coil", WriteSingleRegister: "write register",
	WriteRegisters: "write registers", ReportServerID: "report server id",
	EncapsulatedTransfer: "device identification",
}

func functionWord(code byte) string {
	if word, ok := functionWords[code&^exceptionFlag]; ok {
		return word
	}
	return fmt.Sprintf("function %d", code)
}

// header labels what stands before the data of a frame, as far as it reaches,
// and the check behind it.
func (f Framing) header(b, body []byte) (fields, tail []exchange.Field) {
	add := func(list *[]exchange.Field, from, to int, label, meaning string) {
		if from >= 0 && to <= len(b) {
			*list = append(*list, exchange.Field{From: from, To: to, Label: label, Role: "frame", Meaning: meaning})
		}
	}
	switch f {
	case TCP:
		number := func(at int) string {
			if at+2 > len(b) {
				return ""
			}
			return fmt.Sprint(binary.BigEndian.Uint16(b[at:]))
		}
		add(&fields, 0, 2, "transaction", number(0))
		add(&fields, 2, 4, "protocol", number(2))
		add(&fields, 4, 6, "octets follow", number(4))
	case ASCII:
		add(&fields, 0, 1, "begin", ":")
		if len(body) > 0 {
			add(&tail, len(b)-4, len(b)-2, "check", string(b[len(b)-4:len(b)-2]))
			add(&tail, len(b)-2, len(b), "end", "CR LF")
		}
	case RTU:
		if len(body) > 0 {
			add(&tail, len(b)-2, len(b), "check", fmt.Sprintf("%02X %02X", b[len(b)-2], b[len(b)-1]))
		}
	}
	if len(body) > 0 {
		add(&fields, f.place(0), f.place(1), "unit", fmt.Sprint(body[0]))
	}
	if len(body) > 1 {
		add(&fields, f.place(1), f.place(2), "function", functionWord(body[1]))
	}
	return fields, tail
}

// DissectRequest labels the octets of a request.
func (f Framing) DissectRequest(b []byte) []exchange.Field {
	body, _ := f.body(b)
	fields, tail := f.header(b, body)
	if len(body) >= 6 {
		start, count := binary.BigEndian.Uint16(body[2:]), binary.BigEndian.Uint16(body[4:])
		label := "units"
		if body[1] == WriteSingleCoil || body[1] == WriteSingleRegister {
			label = "value"
		}
		fields = append(fields,
			exchange.Field{From: f.place(2), To: f.place(4), Label: "from", Role: "data",
				Meaning: family.Scheme.Short(block.At(areaOf(body[1]), uint32(start)))},
			exchange.Field{From: f.place(4), To: f.place(6), Label: label, Role: "data", Meaning: fmt.Sprint(count)})
	}
	return rest(fields, tail, b)
}

func areaOf(function byte) string {
	switch function &^ exceptionFlag {
	case ReadCoils, WriteSingleCoil, WriteCoils:
		return family.Coils
	case ReadDiscreteInputs:
		return family.DiscreteInputs
	case ReadInputRegisters:
		return family.InputRegisters
	}
	return family.HoldingRegisters
}

// DissectAnswer labels the octets of an answer with their meaning, those of
// its data with the points that they hold. Where the answer is broken, the
// field that breaks it has the role "broken".
func (f Framing) DissectAnswer(request, b []byte, points []exchange.Labelled) []exchange.Field {
	body, _ := f.body(b)
	fields, tail := f.header(b, body)
	may := Lenience{Unit: f == TCP, Transaction: f == TCP}
	answer, err := f.CheckLeniently(request, b, may)
	var broken *Broken
	if errors.As(err, &broken) {
		marked := false
		for _, list := range [][]exchange.Field{fields, tail} {
			for i := range list {
				if list[i].From == broken.From {
					list[i].Role, list[i].Meaning, marked = "broken", broken.What, true
				}
			}
		}
		from, to := max(broken.From, f.place(2)), len(b)
		if len(tail) > 0 {
			to = tail[0].From
		}
		if !marked && broken.From >= f.place(2) && from < to {
			fields = append(rest(fields, nil, b[:from]),
				exchange.Field{From: from, To: to, Label: "data", Role: "broken", Meaning: broken.What})
		}
		return rest(fields, tail, b)
	}
	if answer.Declined {
		fields = append(fields, exchange.Field{From: f.place(2), To: f.place(3), Label: "exception", Role: "broken",
			Meaning: fmt.Sprintf("%d %s", answer.Exception, family.TCP.Decline(answer.Exception).Title)})
		return rest(fields, tail, b)
	}
	asked, _ := f.body(request)
	if body[1] < ReadCoils || body[1] > ReadInputRegisters || len(asked) < 6 {
		return rest(fields, tail, b)
	}
	fields = append(fields, exchange.Field{From: f.place(2), To: f.place(3), Label: "octets of data", Role: "frame",
		Meaning: fmt.Sprint(body[2])})
	r := block.Range{Area: areaOf(body[1]), Start: uint32(binary.BigEndian.Uint16(asked[2:])),
		Count: int(binary.BigEndian.Uint16(asked[4:]))}
	var spread []exchange.Field
	if body[1] <= ReadDiscreteInputs {
		spread = exchange.SpreadBits(3, r, points)
	} else {
		spread = exchange.SpreadUnits(3, 2, r, points)
	}
	for _, field := range spread {
		field.From, field.To = f.place(field.From), f.place(field.To)
		fields = append(fields, field)
	}
	return rest(fields, tail, b)
}

// rest labels octets between the last field and the tail as data.
func rest(fields, tail []exchange.Field, b []byte) []exchange.Field {
	from, to := 0, len(b)
	for _, f := range fields {
		from = max(from, f.To)
	}
	if len(tail) > 0 {
		to = tail[0].From
	}
	if from < to {
		fields = append(fields, exchange.Field{From: from, To: to, Label: "data", Role: "data"})
	}
	return append(fields, tail...)
}

package modbus

import "ferry/internal/core/protocol"

// vocabulary is how lists head their columns in the words of the family: in
// small letters without blanks, marks and accents.
var vocabulary = &protocol.Vocabulary{
	Headings: map[string][]string{
		"address": {
			"modbusaddress", "modbusregister", "registers4x", "modbusaddr", "modbusreg", "modbusno", "modbusadresse",
			"adressemodbus", "direccionmodbus", "indirizzomodbus", "modbusadres", "enderecomodbus", "modbusadress",
		},
		"table": {
			"functioncode", "function", "fc", "modbusfunction", "functioncodes", "readfunction", "modbustype",
			"modbustable", "fctcode", "func", "functionreadwrite", "readfunctioncode", "funktion", "funktionscode",
			"fonction", "codefonction", "funcion", "codigodefuncion", "funzione", "codicefunzione", "functie",
			"functiecode", "funcao", "codigodefuncao", "funktionskod",
		},
	},
	Types:   map[string]string{"coil": "bool"},
	Fillers: []string{"modbus"},
}

package regmap

import (
	"regexp"
	"slices"
	"strings"
	"sync"

	"ferry/internal/core/protocol"
)

// headingWords are the words by which a heading is recognised, in small letters
// without blanks, marks and accents: English first, then German, French, Spanish,
// Italian, Dutch, Portuguese and Swedish.
var headingWords = map[Column][]string{
	Name: {"name", "point", "tag", "pointname", "tagname", "signal", "signalname", "parameter", "variable", "symbol",
		"parametername", "variablename", "label", "item", "registername", "measurement", "datapoint", "quantity",
		"measuredvalue", "object", "processvalue",
		"bezeichnung", "benennung", "messwert", "datenpunkt", "messgrosse", "grosse", "designation", "nom", "mesure",
		"grandeur", "libelle", "nombre", "senal", "medida", "magnitud", "nome", "grandezza", "misura", "segnale",
		"naam", "meetwaarde", "meting", "grootheid", "sinal", "grandeza", "namn", "matvarde", "benamning", "storhet"},
	Address: {"address", "register", "reg", "addr", "registeraddress", "registerno", "registernumber", "regno",
		"offset0based", "startaddress", "startregister", "location", "regaddr", "registeraddr", "mbaddr", "mbaddress",
		"mbreg", "mbregister", "modiconaddr", "modiconaddress", "lasregister", "plcaddress", "adr", "addressdec",
		"addresshex", "addressdecimal", "registerdec", "registerhex", "hexaddress", "decaddress", "addressoffset",
		"registeroffset", "start", "firstregister", "startaddr", "dataaddress", "pdu", "pduaddress", "protocoladdress",
		"wireaddress", "regnumber", "dec", "hex",
		"adresse", "registeradresse", "startadresse", "registernummer", "registre", "noregistre", "adresseregistre",
		"direccion", "registro", "direccionregistro", "indirizzo", "adres", "registeradres", "endereco", "registrador",
		"registador", "adress", "registeradress"},
	Until: {"end", "endaddress", "endregister", "lastregister", "to", "last", "stop", "bis", "endadresse", "fin",
		"jusqua", "hasta", "fino", "tot", "ate", "till"},
	Type: {"type", "readsas", "datatype", "format", "dataformat", "valuetype", "datatypes", "representation",
		"registerformat", "encoding", "vartype", "typ", "variabletype", "numberformat",
		"datentyp", "datenformat", "typededonnee", "typededonnees", "typedonnees", "formatdedonnees", "tipo",
		"tipodedato", "tipodedatos", "formato", "tipodato", "tipodidato", "tipodidati", "gegevenstype", "datatyp",
		"tipodedados", "tipodados", "dataformatet"},
	Order: {"order", "byteorder", "swapwords", "wordswap", "wordsswapped", "swapbytes", "byteswap", "wordorder",
		"endian", "endianness", "byteandwordorder", "swap", "reihenfolge", "wortreihenfolge", "bytereihenfolge",
		"ordredesmots", "ordendepalabras", "ordineparole", "woordvolgorde", "ordemdaspalavras", "ordordning"},
	Scale: {"scale", "factor", "gain", "multiplyby", "multiplicarpor", "multiplizierenmit", "moltiplicareper",
		"multiplierpar", "multiplier", "scaling", "scalefactor", "resolution", "mult", "slope", "scalingfactor",
		"coefficient", "lsb", "weight", "coef", "coeff",
		"faktor", "skalierung", "auflosung", "multiplikator", "skalierungsfaktor", "facteur", "multiplicateur",
		"echelle", "facteurdechelle", "coefficiente", "escala", "factordeescala", "multiplicador", "resolucion",
		"fattore", "scala", "risoluzione", "moltiplicatore", "fattorediscala", "schaal", "schaalfactor", "resolutie",
		"vermenigvuldiger", "fator", "fatordeescala", "resolucao", "skala", "skalfaktor", "upplosning"},
	Divisor: {"divisor", "divider", "div", "divideby", "teiler", "diviseur", "divisore", "deler", "delare",
		"dividirpor"},
	Offset: {"offset", "bias", "intercept", "zero", "zerooffset", "nullpunkt", "decalage", "desplazamiento",
		"nollpunkt"},
	Unit: {"unit", "units", "eu", "engunit", "engunits", "engineeringunit", "engineeringunits", "uom", "dimension",
		"unitofmeasure", "einheit", "unite", "unidad", "unidades", "unita", "unitadimisura", "eenheid", "unidade",
		"enhet", "mat"},
	Decimals: {"decimals", "digits", "decimalplaces", "precision", "dp", "nachkommastellen", "decimales", "decimali",
		"decimalen", "casasdecimais", "decimaler"},
	Pace: {"pace", "readevery", "interval", "pollrate", "scanrate", "pollinterval", "rate", "cycle", "period",
		"updaterate", "pollingrate"},
	Access: {"access", "rw", "readwrite", "rorw", "permission", "direction", "accesstype", "accessrights", "attribute",
		"mode", "rwaccess", "accessmode", "le", "ls",
		"zugriff", "zugriffsrecht", "lesenschreiben", "acces", "acceso", "accesso", "toegang", "acesso", "atkomst",
		"lectureecriture", "lecturaescritura", "letturascrittura", "lezenschrijven", "leituraescrita", "lasskriv"},
	Readable: {"r", "read", "rd", "lesen", "lecture", "lectura", "lettura", "lezen", "leitura", "las", "readable",
		"lesbar", "lisible", "leible", "legible", "leggibile", "leesbaar", "lasbar"},
	Writable: {"w", "write", "wr", "schreiben", "ecriture", "escritura", "scrittura", "schrijven", "escrita", "skriv",
		"writable", "writeable", "schreibbar", "beschreibbar", "inscriptible", "escribible", "scrivibile",
		"schrijfbaar", "gravavel", "skrivbar"},
	Names: {"names", "values", "namedvalues", "enumeration", "enum", "states", "options", "bits", "bitmeaning",
		"valuelist", "bitdescription", "meaning", "statemeaning", "valuedescription", "codes",
		"bedeutung", "zustande", "werte", "etats", "estados", "stati", "toestanden", "tillstand"},
	Missing: {"missing", "notavailable", "invalidvalue", "navalue", "nullvalue", "invalid", "errorvalue", "ungultig",
		"errorcode", "fehlerwert"},
	Low: {"low", "min", "minimum", "lowest", "lowlimit", "lowerlimit", "rangemin", "rangelow", "minimo", "minvalue",
		"minimalwert", "minwert", "valeurmin", "engmin", "englow", "scaledmin", "scaledlow", "eumin", "eulow",
		"engzero", "outputmin", "physmin"},
	High: {"high", "max", "maximum", "highest", "highlimit", "upperlimit", "rangemax", "rangehigh", "maximo", "massimo",
		"maxvalue", "maximalwert", "maxwert", "valeurmax", "engmax", "enghigh", "scaledmax", "scaledhigh", "eumax",
		"euhigh", "engfull", "outputmax", "physmax"},
	Limits: {"range", "limits", "span", "messspanne", "valuerange", "measuringrange", "measurementrange", "minmax",
		"allowedrange", "validrange",
		"bereich", "messbereich", "wertebereich", "plage", "plagedemesure", "etendue", "rango", "intervallo", "campo",
		"campodimisura", "bereik", "meetbereik", "faixa", "intervalo", "omrade", "matomrade"},
	Change: {"change", "fastestchange", "changesevery", "responsetime", "minimumchange"},
	Band: {"deadband", "band", "reportby", "covincrement", "totband", "bandemorte", "bandamuerta", "bandamorta",
		"dodeband"},
	Told: {"told", "class", "eventclass", "changeeventclass", "defaulteventclass", "dataset", "reportcontrol", "klasse",
		"ereignisklasse", "classe",
		"clase", "klass"},
	Remark: {"remark", "remarks", "comment", "comments", "description", "note", "notes", "desc", "explanation",
		"details", "info", "function1", "remarksnotes", "definition", "content", "contents",
		"beschreibung", "bemerkung", "bemerkungen", "kommentar", "anmerkung", "description2", "commentaire", "remarque",
		"remarques", "descripcion", "comentario", "observaciones", "notas", "descrizione", "commento", "omschrijving",
		"opmerking", "opmerkingen", "beschrijving", "descricao", "observacao", "observacoes", "beskrivning",
		"anmarkning"},
	Count: {"count", "length", "size", "noofregisters", "registers", "numberofregisters", "qty", "quantityofregisters",
		"words", "noofwords", "len", "numregs", "nrofregisters", "numberofwords", "regcount", "regs", "registercount",
		"numreg", "noofregs", "wordcount", "datalength", "datasize", "bytelength", "bytes", "octets", "anz", "nb",
		"cant", "num",
		"anzahl", "lange", "anzahlregister", "worter", "worte", "longueur", "nbmots", "nombrederegistres",
		"nombredemots", "nbregistres", "mots", "longitud", "cantidad", "palabras", "nderegistros", "numeroderegistros",
		"lunghezza", "numeroregistri", "parole", "lengte", "aantal", "aantalregisters", "woorden", "comprimento",
		"tamanho", "quantidade", "langd", "antal", "antalregister"},
	Bit: {"bit", "bitno", "bitnumber", "bitposition", "bitoffset", "bitnr"},
	RawLow: {"rawmin", "rawlow", "rawlo", "rawminimum", "minraw", "lowraw", "rawzero", "inputmin", "inputlow",
		"digitalmin", "countsmin", "rohmin", "rohwertmin", "minroh", "brutmin", "mincrudo", "crudomin", "grezzomin",
		"ruwmin", "brutomin", "ramin"},
	RawHigh: {"rawmax", "rawhigh", "rawhi", "rawmaximum", "maxraw", "highraw", "rawfull", "inputmax", "inputhigh",
		"digitalmax", "countsmax", "rohmax", "rohwertmax", "maxroh", "brutmax", "maxcrudo", "crudomax", "grezzomax",
		"ruwmax", "brutomax", "ramax"},
	Signed: {"signed", "sign", "issigned", "signedunsigned", "vorzeichen", "mitvorzeichen", "signe", "signo",
		"consigno", "segno", "consegno", "teken", "metteken", "sinal", "comsinal", "tecken", "medtecken"},
	Table: {"table", "registertype", "objecttype", "area", "memoryarea", "regtype", "block", "fcode", "readcode",
		"readfc", "fcread", "mbfn", "fn",
		"registerart", "registertyp", "tipoderegistro", "tiporegistro"}}

// headingOf finds columns by those words and by those of the families.
var headingOf = sync.OnceValue(func() map[string]Column {
	index := map[string]Column{}
	add := func(words func(Column) []string) {
		for _, column := range TableColumns() {
			for _, word := range words(column) {
				if _, taken := index[word]; !taken {
					index[word] = column
				}
			}
		}
	}
	add(func(c Column) []string { return headingWords[c] })
	for _, v := range protocol.Vocabularies() {
		add(func(c Column) []string { return v.Headings[string(c)] })
	}
	return index
})

// accents maps letters with marks to those without.
var accents = strings.NewReplacer("á", "a", "à", "a", "â", "a", "ã", "a", "ä", "a", "å", "a", "é", "e", "è", "e", "ê",
	"e", "ë", "e", "í", "i", "ì", "i", "î", "i", "ï", "i",
	"ó", "o", "ò", "o", "ô", "o", "õ", "o", "ö", "o", "ø", "o", "ú", "u", "ù", "u", "û", "u", "ü", "u", "ç", "c", "ñ",
	"n", "ß", "ss", "æ", "ae", "œ", "oe", "º", "o", "°", "o", "№", "no", "’", "'")

// folded is a text in small letters without accents.
func folded(text string) string { return accents.Replace(strings.ToLower(text)) }

var letters = regexp.MustCompile(`[^a-z0-9]+`)

// plain strips a heading to its letters and digits; what stands in brackets is
// an explanation.
func plain(heading string) string {
	if i := strings.IndexAny(heading, "([{"); i > 0 {
		heading = heading[:i]
	}
	return letters.ReplaceAllString(folded(heading), "")
}

// fillers are words that a heading may have more than it needs.
var ownFillers = []string{"the", "of", "no", "nr", "num", "number", "dec", "hex", "decimal", "hexadecimal", "starting",
	"start", "first", "field", "column", "engineering", "eng", "de", "der", "des", "van", "di", "du", "numero",
	"nummer"}

// fillers are those and the ones of the families.
var fillers = sync.OnceValue(func() []string {
	all := ownFillers
	for _, v := range protocol.Vocabularies() {
		all = append(slices.Clone(all), v.Fillers...)
	}
	return all
})

// columnOf recognises a heading.
func columnOf(heading string) (Column, bool) {
	if column, ok := headingOf()[plain(heading)]; ok {
		return column, true
	}
	if i := strings.IndexAny(heading, "([{"); i > 0 {
		heading = heading[:i]
	}
	words := strings.Fields(letters.ReplaceAllString(folded(heading), " "))
	if len(words) < 2 {
		return "", false
	}
	var kept []string
	for _, word := range words {
		filler := false
		for _, f := range fillers() {
			filler = filler || word == f
		}
		if !filler {
			kept = append(kept, word)
		}
	}
	column, ok := headingOf()[strings.Join(kept, "")]
	return column, ok
}

// What headings, titles and cells say of how addresses are meant.
var (
	saysHex     = regexp.MustCompile(`\bhex(adecimal|a)?\b|\b0x\b|\(h\)|\bhexadezimal\b|\besadecimale\b|\bhexadecimaal\b`)
	saysDecimal = regexp.MustCompile(`\bdec(imal)?\b|\bdezimal\b|\bdecimale\b|\(d\)`)
	saysOne     = regexp.MustCompile(`\b1[ -]?based\b|\bone[ -]based\b|\b(base|basis) ?1\b|\bcounts? from 1\b|\b(start|starts|starting|begin|begins|counting|numbered) (at|from|with) (register |address |number )?1\b|\bfirst register is (number |register )?1\b|\b(beginn(t|en)?|ab|zahlen|zahlung) (bei|mit|ab) 1\b|\bcommen(ce|cent|cant) a 1\b|\ba partir de 1\b|\bempieza(n)? (en|por) 1\b|\binizia(no)? da 1\b|\bpartendo da 1\b|\bbegint bij 1\b|\bvanaf 1\b|\bcome(ç|c)a(m)? em 1\b|\bborjar (pa|med|fran) 1\b|\bfran 1\b|\bsubtract (1|one)\b|\bminus (1|one)\b`)
	saysZero    = regexp.MustCompile(`\b0[ -]?based\b|\bzero[ -]based\b|\b(base|basis) ?0\b|\bcounts? from 0\b|\b(start|starts|starting|begin|begins|counting|numbered) (at|from|with) (register |address |number )?(0|zero)\b|\bpdu\b|\bon the wire\b|\bwire address\b|\bprotocol address\b|\boffset\b|\bdata address\b|\b(beginn(t|en)?|zahlung|zahlen) (bei|mit|ab) 0\b|\bcommen(ce|cent|cant) a 0\b|\ba partir de 0\b|\binizia(no)? da 0\b|\bbegint bij 0\b|\bempieza(n)? (en|por) 0\b|\bcomeca(m)? em 0\b|\bborjar (pa|med|fran) 0\b`)
	saysLowWord = regexp.MustCompile(`\b(low|least significant|lsw|lo)[ -]?(order )?(words?|registers?)?[ -]?(is |comes |are |sent |transmitted )*first\b|\blsw first\b|\bword[ -]?swap(ped)?\b|\bswapped words?\b|\blittle[ -]endian words?\b|\bniederwertig(es|er|e)? wort zuerst\b|\bmot (de poids )?faible en premier\b|\bcdab\b|\b(lsw|lo(w)?[ -]?wor[dt]|niederwertiges wort) zuerst\b|\bpoids faible (en premier|d'abord)\b|\bpalabra (baja|menos significativa) primero\b|\bparola bassa prima\b|\blaag(ste)? woord eerst\b`)
	saysHigh    = regexp.MustCompile(`\b(high|most significant|msw|hi)[ -]?(order )?(words?|registers?)?[ -]?(is |comes |are |sent |transmitted )*first\b|\bmsw first\b|\bbig[ -]?endian\b|\bhochwertig(es|er|e)? wort zuerst\b|\bmot (de poids )?fort en premier\b|\babcd\b|\b(msw|hi(gh)?[ -]?wor[dt]|hochwertiges wort) zuerst\b|\bpoids fort (en premier|d'abord)\b|\bpalabra (alta|mas significativa) primero\b|\bparola alta prima\b|\bhoog(ste)? woord eerst\b`)
	saysBits    = regexp.MustCompile(`\bbits?\b`)
	saysWords   = regexp.MustCompile(`word|regist|wort|\bmots?\b|palabra|parol|woord|\bord\b`)
	saysOctets  = regexp.MustCompile(`\b(bytes?|octets?|oktette?|octetos?)\b`)
	saysHalf    = regexp.MustCompile(`\b(high|hi|msb|low|lo|lsb)\b`)
	saysLittle  = regexp.MustCompile(`\blittle[ -]?endian\b`)
)

package regmap

import (
	"regexp"
	"strings"
)

// typePhrases puts words for types in several languages into those that
// splitType and signedWord know. The longer come first.
var typePhrases = func() *strings.Replacer {
	var pairs []string
	for _, p := range []struct{ to, from string }{
		{"unsigned", "ohne vorzeichen|vorzeichenlose|vorzeichenlos|non signe|non signee|sans signe|sin signo|senza " +
			"segno|zonder teken|sem sinal|utan tecken|osignerat|osignerad|unsig.|unsign."},
		{"signed", "mit vorzeichen|vorzeichenbehaftete|vorzeichenbehaftet|avec signe|signee|signe|con signo|con " +
			"segno|met teken|com sinal|med tecken|signerat|signerad"},
		{"double float", "double precision floating point|double precision float|double precision|doppelte " +
			"genauigkeit|double precision reel"},
		{"float", "single precision floating point|single precision float|single precision|einfache " +
			"genauigkeit|floating point number|floating " +
			"point|gleitkommazahl|gleitkomma|fliesskommazahl|fliesskomma|virgule flottante|flottant|coma " +
			"flotante|punto flotante|flotante|virgola mobile|drijvende komma|ponto " +
			"flutuante|flutuante|flyttal|nombre reel|reel|ieee-754|ieee 754|ieee754"},
		{"dword", "double word|doppelwort|double mot|mot double|doble palabra|palabra doble|doppia " +
			"parola|dubbelwoord|dubbel woord|palavra dupla|dupla palavra|dubbelord"},
		{"int", "ganzzahl|ganze zahl|nombre entier|entier|numero entero|entero|numero intero|intero|geheel " +
			"getal|numero inteiro|inteiro|heltal|integer"},
		{"bool", "logique|booleen|booleano|binar|binario|binaire|schakelaar"},
		{"word", "wort|palabra|parola|woord|palavra"},
		{"text", "zeichenkette|zeichen|chaine de caracteres|chaine|cadena de " +
			"caracteres|cadena|stringa|tekst|tekenreeks|texto|cadeia|textstrang|strang|character string"},
		{"bitmap", "bit field|bit-feld|bitfeld|champ de bits|campo de bits|campo di bit|bitveld"},
		{"word", " mot "},
	} {
		for _, from := range strings.Split(p.from, "|") {
			pairs = append(pairs, from, " "+p.to+" ")
		}
	}
	return strings.NewReplacer(pairs...)
}()

var (
	aloneWords = regexp.MustCompile(`\b(mot|ord|de|sur|a|en|op|om|the|with|value|zahl|number|nombre|type)\b`)
	manyBlanks = regexp.MustCompile(`\s+`)
	widthWords = regexp.MustCompile(`\b(bits?|bitar|bit)\b`)
)

// plainType puts a type cell in other words, for a second look at it.
func plainType(lower string) string {
	t := typePhrases.Replace(" " + folded(lower) + " ")
	t = aloneWords.ReplaceAllStringFunc(t, func(word string) string {
		if word == "mot" || word == "ord" {
			return "word"
		}
		return ""
	})
	t = strings.NewReplacer(",", " ", ";", " ", "+", " ", "'", " ").Replace(t)
	t = strings.TrimSpace(manyBlanks.ReplaceAllString(t, " "))
	switch {
	case strings.HasPrefix(t, "double float"):
		return "double"
	case strings.Contains(t, "unsigned") && !strings.HasPrefix(t, "unsigned"):
		t = strings.TrimSpace("unsigned " + strings.Join(strings.Fields(strings.Replace(t, "unsigned", " ", 1)), " "))
	case strings.Contains(t, "signed") && !strings.HasPrefix(t, "signed") && !strings.HasPrefix(t, "unsigned"):
		t = strings.TrimSpace("signed " + strings.Join(strings.Fields(strings.Replace(t, "signed", " ", 1)), " "))
	}
	if !strings.Contains(t, " ") {
		return t
	}
	return strings.TrimSpace(widthWords.ReplaceAllString(t, "bit"))
}

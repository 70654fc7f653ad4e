package site

import "strings"

// IsHostName reports whether a text is the name of a machine (RFC 1123, 2.1): labels of
// up to 63 letters, digits and hyphens, 253 octets in all, of which the last is no
// number. One of which more than one label is a number is none either: it is more likely
// an address with a slip in it.
func IsHostName(text string) bool {
	if len(text) > 253 {
		return false
	}
	labels, numbers := strings.Split(text, "."), 0
	for _, label := range labels {
		if len(label) == 0 || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' ||
			strings.Trim(label, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-") != "" {
			return false
		}
		if strings.Trim(label, "0123456789") == "" {
			numbers++
		}
	}
	return numbers < 2 && strings.Trim(labels[len(labels)-1], "0123456789") != ""
}

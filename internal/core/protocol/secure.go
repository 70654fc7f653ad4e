package protocol

// SecureKeys are the settings by which an end shows who it is, and says whom it trusts: the names
// of files with certificates in PEM, and of a secret with the key.
type SecureKeys struct {
	Certificate string `json:"certificate"`
	Key         string `json:"key"`
	Trusts      string `json:"trusts"`
	// Application is how certificates of such an end name its application.
	Application string `json:"-"`
}

// Secures is the ability of a protocol whose ends show each other certificates of their own.
type Secures interface {
	SecureKeys(end End) SecureKeys
}

// SecureKeys returns the keys of an end; ok is false where ends show no certificates.
func (d *Def) SecureKeys(end End) (keys SecureKeys, ok bool) {
	if d == nil {
		return keys, false
	}
	s, ok := d.Rules.(Secures)
	if ok {
		keys = s.SecureKeys(end)
	}
	return keys, ok
}

// Offers is the ability of a protocol whose answering ends can be asked in which ways they let
// somebody in.
type Offers interface {
	// Offered is what the ways are called together, in small letters: "endpoints".
	Offered() string
}

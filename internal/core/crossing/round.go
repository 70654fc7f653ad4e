package crossing

// wholeRound reports whether all sources have come to the end of a round since the last
// time that it did.
func (f *Flow) wholeRound(sources []Reading) bool {
	rounds := make([]uint64, len(sources))
	for i := range sources {
		r := &sources[i]
		if rounds[i] = r.Round; r.Round == 0 { // each arrival is one
			rounds[i] = uint64(r.At.UnixNano())
		}
		if r.Round == 1 || i < len(f.rounds) && f.rounds[i] == rounds[i] {
			return false
		}
	}
	f.rounds = rounds
	return true
}

package value

// Quality says how far a value may be trusted.
type Quality string

// Good was read in time and means what it says. Doubtful is old, or stopped
// changing, or reads oddly. Bad could not be read: no value is shown for it.
// NotRead has not been tried.
const (
	Good     Quality = "good"
	Doubtful Quality = "doubtful"
	Bad      Quality = "bad"
	NotRead  Quality = "not read"
)

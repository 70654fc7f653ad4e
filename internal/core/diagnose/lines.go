package diagnose

import (
	"fmt"
	"slices"

	"ferry/internal/core/finding"
	"ferry/internal/core/site"
)

// Lines puts what befalls all links of a serial line into one finding of the line: that
// nothing at all comes back on it, and that its adapter hears what it sends. asked says
// which links were asked of late.
func Lines(s *site.Site, found []finding.Finding, asked func(link string) bool) []finding.Finding {
	for i := range s.Lines {
		line := &s.Lines[i]
		if line.Medium != site.SerialLine {
			continue
		}
		links := map[string]bool{}
		for k := range s.Links {
			if s.Links[k].Line == line.ID && asked(s.Links[k].ID) {
				links[s.Links[k].ID] = true
			}
		}
		of := func(f *finding.Finding, code string) bool {
			return f.Code == code && f.Subject.Kind == "link" && links[f.Subject.ID] && f.Where == "traffic"
		}
		silent := slices.DeleteFunc(slices.Clone(found), func(f finding.Finding) bool {
			return !of(&f, "no-answer") || f.Severity != finding.Fault
		})
		subject := finding.Subject{Kind: "line", ID: line.ID, Name: line.Name}
		if len(links) > 1 && len(silent) == len(links) {
			f := silent[0]
			f.Code, f.Subject, f.Count, f.Sure = "line-silent", subject, 0, 0.9
			f.Evidence = nil
			for k := range silent {
				f.Count += silent[k].Count
				f.Evidence = append(f.Evidence, silent[k].Evidence[:min(1, len(silent[k].Evidence))]...)
			}
			f.Title = "Nothing at all comes back on " + line.Name
			f.Sentence = fmt.Sprintf("All %d devices that are asked on it are silent, and not one octet comes.", len(links))
			f.Remedy = "Look at the cable between the adapter and the first device, at its two wires (are they crossed?), and at " +
				"the power of the line; then at the adapter's own settings."
			f.Else = "The port is set to another format than all of the devices."
			found = slices.DeleteFunc(found, func(f finding.Finding) bool { return of(&f, "no-answer") })
			found = append(found, f)
		}
		at := slices.IndexFunc(found, func(f finding.Finding) bool { return of(&f, "echo") })
		if at < 0 {
			continue
		}
		f := found[at]
		f.Subject, f.Count, f.Severity = subject, 0, finding.Note
		f.Title = "The adapter of " + line.Name + " hears what it sends"
		for k := range found {
			if of(&found[k], "echo") {
				f.Count += found[k].Count
			}
		}
		f.Sentence = fmt.Sprintf("%d questions came back at once, before their answer. Ferry takes them away.", f.Count)
		found = slices.DeleteFunc(found, func(f finding.Finding) bool { return of(&f, "echo") })
		found = append(found, f)
	}
	return found
}

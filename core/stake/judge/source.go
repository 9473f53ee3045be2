package judge

import (
	"fmt"

	"northstake/core/stake"
	"northstake/core/wire"
)

var _ = stake.Judged("source", stake.Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	Judge:        stake.Judging(judgeSource),
	Away:         stake.Judging(awaySource),
})

// awaySource takes a source away whose files are as they were written.
func awaySource(in stake.Input, w wire.SourceWant, f wire.SourceFound) stake.Verdict {
	v := stake.Verdict{Gone: true}
	for _, file := range f.Files {
		if file.Entry.Kind == "" {
			continue
		}
		v.Gone = false
		if !file.Same {
			v.Cautions = []stake.Note{stays(in, file.Path)}
			return v
		}
	}
	if !v.Gone {
		v.Moves = []wire.Move{{Verb: "take", Text: fmt.Sprintf("take away package source %s, %s", w.Name, w.URL), Work: wire.JSON(wire.SourceWork{SourceWant: w, Away: true})}}
	}
	return v
}

func judgeSource(in stake.Input, w wire.SourceWant, f wire.SourceFound) stake.Verdict {
	var d differences
	v := stake.Verdict{Gone: true}
	for _, file := range f.Files {
		v.Gone = v.Gone && file.Entry.Kind == ""
		switch {
		case file.Entry.Kind != wire.EntryFile:
			d.add(string(file.Path), "a file", file.Entry.Words())
		case !file.Same:
			d.add("text of "+string(file.Path), "as declared", "different")
		default:
			var of differences
			compareEntry(&of, wire.EntryFile, wire.Administrators, "0644", file.Entry)
			for _, one := range of {
				d.add(one.Attribute+" of "+string(file.Path), one.Wanted, one.Found)
			}
			continue
		}
		v.Touched = file.Entry.Touched
	}
	entered := len(d) == 0
	if f.Unsound != "" {
		d.differ("sources of the host", "such as can be read", f.Unsound)
	}
	if entered && f.Unlisted {
		d.add("its lists of packages", "there", "not there")
	}
	v.Differences = d
	if len(d) == 0 {
		return v
	}
	if entered && f.Unsound != "" { // else it may be this source's own entry that somebody has spoilt
		v.Blockers = []stake.Note{{Address: in.Stake.Address(), What: "the package sources of this host contradict each other: " + f.Unsound, Fix: "take the other entry for that URL out by hand, or this source"}}
		return v
	}
	v.Cautions = wrongClock(in)
	verb, text := "add", fmt.Sprintf("add package source %s, %s, with its key", w.Name, w.URL)
	if entered {
		verb, text = "read", fmt.Sprintf("read the lists of package source %s, %s", w.Name, w.URL)
	} else if !v.Gone {
		verb, text = "write", fmt.Sprintf("write package source %s, %s, and its key again", w.Name, w.URL)
	}
	v.Moves = []wire.Move{{Verb: verb, Text: text, Because: "its lists are read, to see that it is there and signed with that key", Work: wire.JSON(w)}}
	return v
}

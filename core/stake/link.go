package stake

import "fmt"

// LinkWant is a symbolic link.
type LinkWant struct {
	Path     string `json:"path"`
	PointsTo string `json:"points_to"`
}

var _ = register("link", kindOf[LinkWant, Entry](judgeLink))

func judgeLink(in Input, w LinkWant, f Entry) Verdict {
	v := Verdict{Gone: f.Kind == ""}
	var d differences
	if f.Kind == "link" {
		d.add("leads to", w.PointsTo, f.Target)
	} else {
		d.add("what it is", "a link to "+w.PointsTo, f.Words())
	}
	v.Differences = d
	if len(d) == 0 {
		return v
	}
	v.Touched = f.Touched
	switch f.Kind {
	case "":
		v.Moves = []Move{{Verb: "make", Text: fmt.Sprintf("make the link %s to %s", w.Path, w.PointsTo), Work: JSON(w)}}
	case "link":
		v.Moves = []Move{{Verb: "point", Text: fmt.Sprintf("point the link %s to %s, from %s", w.Path, w.PointsTo, f.Target), Work: JSON(w)}}
	default:
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("%s is %s, where a link is declared", w.Path, f.Words()), "move it away, or declare another path"}}
	}
	return v
}

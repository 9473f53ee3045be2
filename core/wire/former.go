package wire

import (
	"encoding/json"
)

// UnmarshalJSON reads a step of now or of before, when it did not say at which paths it also is.
func (s *Step) UnmarshalJSON(b []byte) error {
	type plain Step
	if err := json.Unmarshal(b, (*plain)(s)); err != nil {
		return err
	}
	if name, was := FormerName(b); was {
		s.Address, s.Name = name, s.Address
	}
	if s.AlsoAt == nil {
		s.AlsoAt = alsoAtBefore(s.Type, s.Work)
	}
	return nil
}

// alsoAtBefore are the paths of a step in records of releases before, which had two types with such paths.
func alsoAtBefore(typ string, work json.RawMessage) []Path {
	switch typ {
	case "service":
		var w ServiceWork
		if json.Unmarshal(work, &w) == nil {
			return w.Paths()
		}
	case "site":
		var sites Works[SiteWork]
		if json.Unmarshal(work, &sites) == nil {
			return sites.Paths()
		}
	}
	return nil
}

package estate

import "strings"

// Mapping gives networks and workloads labels for the tags that they have in their accounts. Rules are
// asked in order, those of one mapping after those of the one before.
type Mapping struct {
	Name  string        `json:"name" doc:"req,name"`
	Rules []MappingRule `json:"rules" doc:"req"`
}

// MappingRule turns tags into one label. The first rule that speaks of a tag gives the label; where
// two tags give one label two values, the earlier rule wins, and the conflict is shown.
type MappingRule struct {
	Provider string `json:"provider,omitempty"`                       // "" for every one
	Account  string `json:"account,omitempty" doc:"of=account,vital"` // likewise
	Key      string `json:"key" doc:"req"`                            // patterns of the tag's key, one or several: env|environment|stage
	Value    string `json:"value,omitempty"`                          // patterns of its value; "" for any
	Label    string `json:"label" doc:"req"`                          // the key of the label
	To       string `json:"to,omitempty"`                             // its value; "" for that of the tag, put in order
}

// Check returns which field of the rule cannot be what it is, why, and how to fix it; "" where none is.
func (r *MappingRule) Check() (field, message, fix string) {
	if strings.TrimSpace(r.Key) == "" {
		return "key", "the rule has no tag key", "write a tag key, or * for all"
	}
	if r.Label == "" {
		return "label", "the rule has no label key", "write a label key, such as env"
	}
	if err := CheckLabel(r.Label, r.To); err != nil {
		return "label", err.Error(), "use only letters, digits and ._-/:@+"
	}
	return "", "", ""
}

// MappingRules returns the rules of all mappings, in order.
func (e *Estate) MappingRules() []MappingRule {
	out := []MappingRule{}
	for i := range e.Mappings {
		out = append(out, e.Mappings[i].Rules...)
	}
	return out
}

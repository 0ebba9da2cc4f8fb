package drivers

// InLists puts rules into lists by what they hang on, in the order in which each
// is first named.
func InLists(n int, rule func(int) (on, text string)) []RuleList {
	var out []RuleList
	at := map[string]int{}
	for i := range n {
		on, text := rule(i)
		k, ok := at[on]
		if !ok {
			k = len(out)
			at[on] = k
			out = append(out, RuleList{On: on})
		}
		out[k].Rules = append(out[k].Rules, text)
	}
	return out
}

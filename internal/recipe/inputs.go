package recipe

import "regexp"

// Input is a file that a scene, or a file that it needs, names.
type Input struct {
	Name string // as it stands there
	InputRule
}

// InputsIn returns the files that a text names, each as often as it is named.
func (r *Recipe) InputsIn(text []byte) (out []Input) {
	for _, rule := range r.Inputs {
		for _, m := range regexp.MustCompile(rule.Match).FindAllSubmatch(text, mostInputs) {
			for _, group := range m[1:] { // of alternatives, the one that matched
				if len(group) > 0 {
					out = append(out, Input{string(group), rule})
				}
			}
		}
	}
	return out
}

// mostInputs bounds the files that one rule finds in a text.
const mostInputs = 100_000

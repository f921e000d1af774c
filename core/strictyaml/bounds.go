package strictyaml

import (
	"fmt"

	"go.yaml.in/yaml/v3"

	"nurvik/core/plain"
)

// maxAliased is how many values aliases may add to those of a document: people
// share a list or a few settings; aliases of aliases come to billions in a
// hundred lines.
const maxAliased = 100_000

// bounds walks a document before anything is made of it.
type bounds struct {
	name string
	own  int                // values of the document itself, so far
	size map[*yaml.Node]int // of what aliases name, written out; 0 while it is being counted
}

// bounded refuses a document whose aliases make it too large or contain
// themselves, and text that could not be shown or kept.
func bounded(name string, document *yaml.Node) error {
	_, err := (&bounds{name: name, size: map[*yaml.Node]int{}}).count(document)
	return err
}

func (b *bounds) count(n *yaml.Node) (int, error) {
	if n.Kind == yaml.AliasNode {
		return b.count(n.Alias)
	}
	if n.Anchor != "" {
		if size, met := b.size[n]; met && size == 0 {
			return 0, &Error{b.name, n.Line, fmt.Sprintf("the anchor %q contains itself", n.Anchor)}
		} else if met {
			return size, nil
		}
		b.size[n] = 0
	}
	if err := plain.Check(n.Value, true); err != nil {
		return 0, &Error{b.name, n.Line, err.Error()}
	}
	b.own++
	total := 1
	for _, inner := range n.Content {
		size, err := b.count(inner)
		if err != nil {
			return 0, err
		}
		if total += size; total > b.own+maxAliased {
			return 0, &Error{b.name, n.Line, fmt.Sprintf("aliases add more than %d values to the document; "+
				"write it with fewer", maxAliased)}
		}
	}
	if n.Anchor != "" {
		b.size[n] = total
	}
	return total, nil
}

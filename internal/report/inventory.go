package report

import (
	"nurvik/core/facts"
	"nurvik/core/inventory"
	"nurvik/internal/audit"
	"slices"
)

// IdentifySchema names the form of the JSON of "nurvik identify".
const IdentifySchema = "nurvik.identify/1"

// Inventory is what was read, in words.
type Inventory struct {
	Schema     string             `json:"schema"`
	Files      []InventoryFile    `json:"files"`
	Unexamined []audit.Unexamined `json:"unexamined"`
	Linked     []string           `json:"linked,omitempty"` // directories behind links, which were not entered

	count int
	of    func(i int) InventoryFile // puts a file into words when it is asked for; nil for those above
}

// InventoryFile is one file, or one entry of an archive.
type InventoryFile struct {
	Path    string            `json:"path"`
	Archive string            `json:"archive,omitempty"`
	Access  *facts.Access     `json:"access,omitempty"`
	Entries []inventory.Entry `json:"entries"`
	Defects []facts.Defect    `json:"defects,omitempty"`
}

// NewInventory puts what was read into words; with every field where that is wanted.
func NewInventory(source *audit.Source, fields bool) Inventory {
	files, memory := source.Files, source.Reader.Memory
	owners := inventory.OwnersOf(files, memory)
	v := Inventory{Schema: IdentifySchema, Unexamined: source.Unexamined, Linked: source.Linked, count: len(files)}
	if v.Unexamined == nil {
		v.Unexamined = []audit.Unexamined{}
	}
	v.of = func(i int) InventoryFile {
		f := &files[i]
		file := InventoryFile{Path: f.Path, Archive: f.Archive, Access: f.Access, Defects: f.Defects,
			Entries: make([]inventory.Entry, len(f.Items))}
		for n := range f.Items {
			file.Entries[n] = inventory.Of(&f.Items[n], memory, fields)
			owners.Name(&file.Entries[n])
		}
		return file
	}
	return v
}

func (v *Inventory) size() int {
	if v.of == nil {
		return len(v.Files)
	}
	return v.count
}

func (v *Inventory) file(i int) InventoryFile {
	if v.of == nil {
		return v.Files[i]
	}
	return v.of(i)
}

// inventoryHead is what stands beside the lists of an inventory.
type inventoryHead struct {
	Schema string   `json:"schema"`
	Linked []string `json:"linked,omitempty"`
}

// silent defects are told only with every field: the standard allows them, and they hurt nobody.
func silent(d facts.Defect) bool { return d.Kind == facts.LineEnds || d.Kind == facts.TextBetween }

// summary counts what an inventory holds.
type summary struct {
	kinds   map[string]int
	order   []string
	things  int
	defects []string
	told    bool // defects were told already

	from  int       // the first file that was counted
	parts []summary // in any order
}

// join takes in what was counted of another part.
func (n *summary) join(part summary) {
	n.parts = append(n.parts, part)
	n.things += part.things
}

// settle puts the parts together in the order of the files.
func (n *summary) settle() {
	slices.SortFunc(n.parts, func(a, b summary) int { return a.from - b.from })
	for _, p := range n.parts {
		n.defects = append(n.defects, p.defects...)
		for _, what := range p.order {
			if n.kinds[what] == 0 {
				n.order = append(n.order, what)
			}
			n.kinds[what] += p.kinds[what]
		}
	}
	n.parts = nil
}

func (n *summary) add(f *InventoryFile) {
	for _, d := range f.Defects {
		if !silent(d) && !n.told {
			n.defects = append(n.defects, "defect: "+defectLine(f.Path, d))
		}
	}
	for _, e := range f.Entries {
		if n.kinds[e.What] == 0 {
			n.order = append(n.order, e.What)
		}
		n.kinds[e.What]++
		n.things++
	}
}

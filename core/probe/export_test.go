package probe

import (
	"maps"
	"slices"
)

// Upgrade and Dialogues are for the fuzz target.
var Upgrade = upgrade

// Dialogues are the schemes that begin in plaintext.
func Dialogues() []string { return slices.Sorted(maps.Keys(dialogues)) }

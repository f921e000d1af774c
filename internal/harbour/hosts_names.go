package harbour

import (
	"time"

	"nurvik/core/forge"
)

// nameplates is where certificates lie whose entries cover something else than was meant.
func (m *machines) nameplates() {
	const day = 24 * time.Hour
	plate := func(name string, change func(*forge.Template)) {
		m.public("nameplates/"+name+".crt", pemOf(m.leaf(name, m.set(name).spki, -20*day, change)))
	}
	also := func(names ...string) func(*forge.Template) {
		return func(w *forge.Template) { w.Names = append(w.Names, names...) }
	}
	plate("half-a-wildcard", also("ti*."+domain))
	plate("whole-registry", also("*.com"))
	plate("own-network", also("storeroom.local", "10.7.1.20"))
	plate("ruled-line", also("_tide."+domain))
	plate("twice-told", also("*."+domain))
	plate("other-face", func(w *forge.Template) { w.Name = "figurehead." + domain })
	plate("street-and-number", func(w *forge.Template) {
		const address = "192.0.2.7"
		host := "street-and-number." + domain
		value := append([]byte{0x82, byte(len(host))}, host...)
		value = append(append(value, 0x82, byte(len(address))), address...)
		w.Names = nil
		w.Extra = append(w.Extra, forge.Extension{ID: []int{2, 5, 29, 17}, Value: append([]byte{0x30, byte(len(value))},
			value...)})
	})
}

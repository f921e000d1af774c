package harbour

import (
	"bytes"
	"encoding/pem"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"nurvik/core/forge"
)

// write puts down the estate file, the trust stores and the files to audit.
func (h *Harbour) write(all []berth, i *issuers, o Options) error {
	files, err := i.files()
	if err != nil {
		return err
	}
	files["estate.yaml"] = estateFile(all, o.Port)
	files["passwords.txt"] = []byte("a word that fits nowhere\n" + Password + "\n")
	for name, root := range map[string]*forge.Authority{"outer": i.outerRoot, "inner": i.innerRoot,
		"rehearsal": i.rehearsalRoot,
		"old-light": i.oldLight, "sextant": i.sextant, "second": i.secondRoot} {
		files["anchors/"+name+".pem"] = pemOf(root.DER)
	}
	// The issuer with the RSA key is one of the outer ones: its only use is to sign with an old hash.
	files["anchors/outer.pem"] = append(files["anchors/outer.pem"], pemOf(i.stamp.DER)...)
	for name, data := range files {
		if err := writeFile(o.Directory, name, data); err != nil {
			return err
		}
	}
	return nil
}

func pemOf(ders ...[]byte) []byte {
	var out bytes.Buffer
	for _, der := range ders {
		_ = pem.Encode(&out, &pem.Block{Type: "CERTIFICATE", Bytes: der}) // a buffer refuses nothing
	}
	return out.Bytes()
}

// estateFile describes the berths in the form of docs/estate-file.md.
func estateFile(all []berth, port uint16) []byte {
	var out strings.Builder
	out.WriteString(`# The estate of the Tarnholm Harbour Authority, written at each start of the demo.
name: Tarnholm Harbour Authority
stores:
  outer: {kind: public, path: anchors/outer.pem}
  inner: {kind: private, path: anchors/inner.pem}
  rehearsal: {kind: rehearsal, path: anchors/rehearsal.pem}
  old-light: {kind: public, path: anchors/old-light.pem}
  sextant: {kind: private, path: anchors/sextant.pem}
  second: {kind: public, path: anchors/second.pem}
networks: [{network: 127.0.0.0/8, ports: [` + strconv.Itoa(int(port)) + `]}]
resolver: {address: '` + netip.AddrPortFrom(netip.MustParseAddr(nameServerAddress), port).String() + `', validates: true}
caa-issuers: {Skerry Outer Issuing: [outer.tarnholm.example]}
defaults:
  trust: [outer]
  owner: web crew
endpoints:
`)
	list := func(key string, values []string) {
		if len(values) > 0 {
			fmt.Fprintf(&out, "    %s: [%s]\n", key, strings.Join(values, ", "))
		}
	}
	for _, b := range all {
		fmt.Fprintf(&out, "  - endpoint: %s\n", b.endpoint())
		var connect []string
		for _, address := range append(append([]string{}, b.addresses...), b.closed...) {
			connect = append(connect, address+":"+strconv.Itoa(int(port)))
		}
		if !b.noConnect {
			list("visit-at", connect)
		}
		if b.plain {
			fmt.Fprintf(&out, "    http-port: %d\n", port+plainOffset)
		}
		if b.authenticated {
			out.WriteString("    authenticated: true\n")
		}
		list("trust", b.trust)
		list("audiences", b.audiences)
		if owner := b.owner(); owner != "" {
			fmt.Fprintf(&out, "    owner: %s\n", owner)
		}
		fmt.Fprintf(&out, "    labels: {about: %q}\n", b.about)
	}
	return []byte(out.String())
}

// owner is who sees to what is no web server, and to what only the office uses.
func (b berth) owner() string {
	switch {
	case slices.Contains(b.trust, "inner"):
		return "office crew"
	case strings.Contains(b.endpoint(), "://"):
		return "cable crew"
	}
	return ""
}

// files are certificate files good and bad, by their names below the directory.
func (i *issuers) files() (map[string][]byte, error) {
	var failure error
	leaf := func(name string, issuer *forge.Authority, change func(*forge.Template)) []byte {
		key, err := i.keys.ec(name)
		if err != nil {
			failure = err
			return nil
		}
		w := forge.Template{Name: name, Names: []string{name}}
		if w.SPKI, err = forge.PublicInfo(key); err != nil {
			failure = err
			return nil
		}
		lasting(-20*dayLong, -20*dayLong+leafLifetime)(&w, i.now)
		if change != nil {
			change(&w)
		}
		der, err := forge.Issue(issuer, key, w)
		if err != nil {
			failure = err
		}
		return der
	}
	chain := i.outer.Chain()
	tides := leaf("tides."+domain, i.outer, nil)
	lighthouse := leaf("lighthouse."+domain, i.outer, nil)
	customs := pemOf(append([][]byte{leaf("customs."+domain, i.outer, nil)}, chain...)...)
	short := leaf("capstan."+domain, i.outer, func(w *forge.Template) {
		if w.SPKI, failure = forge.RSAInfo(512); failure != nil {
			return
		}
	})
	md5 := leaf("foghorn."+domain, i.stamp, func(w *forge.Template) { w.Sign = &forge.RSAMD5 })
	maze, err := i.maze(leaf)
	if err != nil {
		return nil, err
	}
	return map[string][]byte{
		"files/tides-fullchain.pem":   pemOf(append([][]byte{tides}, chain...)...),
		"files/tides.der":             tides,
		"files/lighthouse-bundle.pem": pemOf(lighthouse, chain[1], chain[0]),
		"files/outer-authorities.pem": pemOf(append(chain, i.outerRoot.DER)...),
		"files/capstan-512.pem":       pemOf(append([][]byte{short}, chain...)...),
		"files/foghorn-md5.pem":       pemOf(md5),
		"files/customs-damaged.pem":   customs[:len(customs)-300],
		"files/maze.pem":              maze,
		"files/README.txt": []byte("Certificate files of the Tarnholm Harbour Authority, good and bad. " +
			"Made up from end to end.\n"),
	}, failure
}

// maze is a leaf below authorities that have all certified each other, so that
// there are more paths than anyone looks at, and no anchor.
func (i *issuers) maze(leaf func(string, *forge.Authority, func(*forge.Template)) []byte) ([]byte, error) {
	const size = 8
	rooms := make([]*forge.Authority, size)
	var err error
	from, until := i.now.Add(-365*dayLong), i.now.Add(365*dayLong-time.Second)
	for n := range rooms {
		if rooms[n], err = i.authority(nil, forge.Template{Name: fmt.Sprintf("Maze Room %d", n+1), From: from,
			Until: until}); err != nil {
			return nil, err
		}
	}
	out := pemOf(leaf("maze."+domain, rooms[0], nil))
	for _, room := range rooms {
		for _, issuer := range rooms {
			if room == issuer {
				continue
			}
			crossed, err := i.authority(issuer, forge.Template{Name: room.Name, From: from, Until: until})
			if err != nil {
				return nil, err
			}
			out = append(out, pemOf(crossed.DER)...)
		}
	}
	return out, nil
}

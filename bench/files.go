package main

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	java "github.com/pavlo-v-chernykh/keystore-go/v4"
	pkcs12 "software.sslmate.com/src/go-pkcs12"

	"nurvik/core/intake"
	"nurvik/internal/cli"
)

const (
	fileCount   = 100_000 // files of the large mixes
	leafCount   = 50_000  // leaves of the one file
	leafTime    = 10 * time.Second
	leafMemory  = 500_000_000 // bytes
	ratioTable  = 1.0
	ratioJSON   = 1.3
	ratioFields = 1.5 // of identify as JSON, which writes everything that is known of each thing
	ratioRead   = 1.5 // of a walk over a system against reading its files
)

// mixes are trees of files as machines hold them.
var mixes = []struct {
	name, about string
	write       func(root string, f *family) error
}{
	{"services", "25,000 services with key, request, certificate and chain", writeServices},
	{"mixed", "60,000 leaves, 15,000 chains, 10,000 requests and 15,000 keys", writeMixed},
	{"stores", "10 directories of large bundles and keystores", writeStores},
}

// fileRows measure the client on each mix, in both forms, against a bare loop that
// reads, decodes and parses the same files with the standard library.
func fileRows(directory string, out table.Writer) (missed bool, err error) {
	f, err := newFamily()
	if err != nil {
		return false, err
	}
	password := filepath.Join(directory, "password")
	if err := os.WriteFile(password, []byte(benchPassword+"\n"), 0o600); err != nil {
		return false, err
	}
	for _, mix := range mixes {
		root := filepath.Join(directory, mix.name)
		if err := mix.write(root, f); err != nil {
			return false, err
		}
		for _, call := range []struct {
			command string
			limit   float64
		}{{"pair", ratioTable}, {"pair -o json", ratioJSON}, {"identify", ratioTable}, {"identify -o json",
			ratioFields}} {
			line := call.command + " --password-file " + password
			if strings.HasPrefix(call.command, "pair") {
				line += " --no-shared-primes"
			}
			m, err := ratioAndMemory(figure{
				name: fmt.Sprintf("%s (%s), against a loop of the standard library that parses them", call.command,
					mix.about),
				ours: func() error { return child("client", line+" "+root) }, limit: call.limit,
				floor: func() error { return child("parse", root) }, rounds: 3}, out)
			if missed = missed || m; err != nil {
				return missed, err
			}
		}
		if err := os.RemoveAll(root); err != nil {
			return missed, err
		}
	}
	// The whole tree may have gigabytes of other vendors' archives; the four are what Debian's packages fill.
	for _, trees := range []string{"/usr", "/usr/bin /usr/sbin /usr/share /usr/lib/x86_64-linux-gnu"} {
		m, err := ratioAndMemory(figure{
			name:  "identify " + trees + ", against a loop that reads the same files up to the limit",
			limit: ratioRead,
			ours:  func() error { return child("client", "identify "+trees) },
			floor: func() error { return child("read", trees) }, rounds: 3}, out)
		if missed = missed || m; err != nil {
			return missed, err
		}
	}
	one := filepath.Join(directory, "leaves.pem")
	if err := writeLeaves(one, f, leafCount); err != nil {
		return missed, err
	}
	n, err := leafRows(one, out)
	return missed || n, err
}

// leafRows measure every command on one file of many leaves.
func leafRows(path string, out table.Writer) (missed bool, err error) {
	for _, command := range []string{"identify", "pair --no-shared-primes", "audit --no-revocation --no-shared-primes",
		"audit --no-revocation --no-shared-primes -o json"} {
		delete(most, "client")
		started := time.Now()
		if err := child("client", command+" "+path); err != nil {
			return false, err
		}
		took := time.Since(started)
		out.AppendRow(table.Row{fmt.Sprintf("%s, one file of %d leaves", command, leafCount),
			took.Round(time.Millisecond), "",
			"", leafTime, word(took <= leafTime, &missed)})
		out.AppendRow(table.Row{"the same: memory", fmt.Sprintf("%d MB", most["client"]/1_000_000), "", "",
			fmt.Sprintf("%d MB", leafMemory/1_000_000), word(most["client"] <= leafMemory, &missed)})
	}
	return missed, nil
}

// ratioAndMemory measures a call of the client against its floor, and what memory it had in use.
func ratioAndMemory(f figure, out table.Writer) (missed bool, err error) {
	delete(most, "client")
	if missed, err = ratioRow(f, out); err != nil {
		return missed, err
	}
	out.AppendRow(table.Row{"the same: memory at most", fmt.Sprintf("%d MB", most["client"]/1_000_000), "", "",
		fmt.Sprintf("%d MB", memoryLimit/1_000_000), word(most["client"] <= memoryLimit, &missed)})
	return missed, nil
}

// children are what runs in a process of its own, as it would outside of this program.
var children = map[string]func(string) error{"write": writeMixes, "client": client, "parse": bareParse,
	"read": bareRead, "heap": judgeHeap, "maze": judgeMaze, "maze-read": readMaze,
	"maze-write": writeMazes,
	"visit":      visitAll, "bare": bareAll}

// most is the largest memory that a child had in use, in bytes, by its name.
var most = map[string]int64{}

// spent is the processor time of the children, by their name.
var spent = map[string]time.Duration{}

// child runs a part in a process of its own and notes its memory. What the client writes is dropped.
func child(name, argument string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(self, name, argument)
	cmd.Stderr = os.Stderr
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	spent[name] += cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()
	if usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		most[name] = max(most[name], usage.Maxrss<<10) // Linux counts kibibytes
	}
	return nil
}

// writeMixes keeps the trees in a directory, for a look at one of them with a profiler.
func writeMixes(directory string) error {
	f, err := newFamily()
	if err != nil {
		return err
	}
	for _, mix := range mixes {
		if err := mix.write(filepath.Join(directory, mix.name), f); err != nil {
			return err
		}
	}
	err = os.WriteFile(filepath.Join(directory, "password"), []byte(benchPassword+"\n"), 0o600)
	return errors.Join(err, writeLeaves(filepath.Join(directory, "leaves.pem"), f, leafCount))
}

// client is the program that people run. Findings, and files of others that need a password, are no failure.
func client(call string) error {
	os.Args = append([]string{"nurvik"}, strings.Fields(call)...)
	cli.LimitMemory()
	if status := cli.Main(); status == 2 {
		return fmt.Errorf("nurvik %s ended with %d", call, status)
	}
	return nil
}

// bareParse reads and parses every file, as many at once as there are processors.
func bareParse(root string) error { return eachFile(root, bareFile) }

// bareRead opens and reads every file of the trees up to the limit.
func bareRead(trees string) error {
	for root := range strings.FieldsSeq(trees) {
		if err := readTree(root); err != nil {
			return err
		}
	}
	return nil
}

func readTree(root string) error {
	buffers := sync.Pool{New: func() any { return new(bytes.Buffer) }}
	return eachFile(root, func(path string) error {
		file, err := os.Open(path)
		if err != nil {
			return nil // what we may not read, ours may not either
		}
		defer file.Close()
		buffer, _ := buffers.Get().(*bytes.Buffer)
		defer buffers.Put(buffer)
		buffer.Reset()
		_, err = io.Copy(buffer, io.LimitReader(file, intake.MaxFileSize))
		return err
	})
}

// eachFile walks the tree and runs do for each file, as many at once as there are processors.
func eachFile(root string, do func(path string) error) error {
	paths := make(chan string, 1000)
	failures := make(chan error, runtime.GOMAXPROCS(0)+1)
	var group sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() {
			var failure error
			for path := range paths {
				if failure == nil {
					failure = do(path)
				}
			}
			failures <- failure
		})
	}
	failures <- filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			paths <- path
		}
		return err
	})
	close(paths)
	group.Wait()
	close(failures)
	var all error
	for failure := range failures {
		all = errors.Join(all, failure)
	}
	return all
}

func bareFile(path string) error {
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	switch filepath.Ext(path) {
	case ".p12":
		_, _, _, err = pkcs12.DecodeChain(data, benchPassword)
		return err
	case ".jks":
		return bareJava(data)
	}
	for len(data) > 0 {
		var block *pem.Block
		if block, data = pem.Decode(data); block == nil {
			return fmt.Errorf("%s holds no block", path)
		}
		switch block.Type {
		case "CERTIFICATE":
			_, err = x509.ParseCertificate(block.Bytes)
		case "CERTIFICATE REQUEST":
			_, err = x509.ParseCertificateRequest(block.Bytes)
		case "RSA PRIVATE KEY":
			_, err = x509.ParsePKCS1PrivateKey(block.Bytes)
		case "EC PRIVATE KEY":
			_, err = x509.ParseECPrivateKey(block.Bytes)
		default:
			_, err = x509.ParsePKCS8PrivateKey(block.Bytes)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func bareJava(data []byte) error {
	store := java.New()
	if err := store.Load(bytes.NewReader(data), []byte(benchPassword)); err != nil {
		return err
	}
	for _, alias := range store.Aliases() {
		entry, err := store.GetPrivateKeyEntry(alias, []byte(benchPassword))
		if err != nil {
			return err
		}
		if _, err = x509.ParsePKCS8PrivateKey(entry.PrivateKey); err != nil {
			return err
		}
		for _, c := range entry.CertificateChain {
			if _, err := x509.ParseCertificate(c.Content); err != nil {
				return err
			}
		}
	}
	return nil
}

//go:build servers

package servers_test

import (
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPackages installs both packages on this machine, looks at what is there, and removes them again. It is no
// parallel test: the user that it makes is the one whom other services would run as.
func TestPackages(t *testing.T) {
	root := func(status int, name string, args ...string) string {
		t.Helper()
		if os.Geteuid() != 0 {
			name, args = "sudo", append([]string{"-n", name}, args...)
		}
		cmd := exec.Command(name, args...)
		cmd.Env = append(os.Environ(), "DEBIAN_FRONTEND=noninteractive")
		out, err := cmd.CombinedOutput()
		require.Equal(t, status, cmd.ProcessState.ExitCode(), "%s %v: %v: %s", name, args, err, out)
		return string(out)
	}
	if out, err := exec.Command("dpkg-query", "-W", "-f", "${Status}", "nurvikd").Output(); err == nil {
		require.NotContains(t, string(out), "ok installed", "this machine has the package nurvikd; remove it first")
	}
	_, err := user.Lookup("nurvik")
	require.Error(t, err, "this machine has the user nurvik, whom the package would take over")
	was, err := exec.Command("stat", "-c", "%a %U %G", "/var/lib/nurvik").Output()
	kept := err == nil // somebody has run the service here: their data are left as they are

	directory := t.TempDir()
	cmd := exec.Command("../scripts/package", directory)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	files, err := filepath.Glob(filepath.Join(directory, "*.deb"))
	require.NoError(t, err)
	require.Len(t, files, 2)
	for _, f := range files {
		assert.Regexp(t, `/nurvikd?_[0-9][0-9a-z.+]*_[a-z0-9]+\.deb$`, f)
	}
	t.Cleanup(func() {
		root(0, "dpkg", "--purge", "nurvik", "nurvikd")
		root(0, "userdel", "nurvik")
		if !kept {
			root(0, "rmdir", "/var/lib/nurvik") // nothing was put there
		}
	})
	said := root(0, "dpkg", append([]string{"--install"}, files...)...)

	for _, program := range []string{"nurvik", "nurvikd"} {
		version, err := exec.Command("/usr/bin/"+program, "version").Output()
		require.NoError(t, err)
		assert.Contains(t, string(version), program+" ")
		assert.FileExists(t, "/usr/share/doc/"+program+"/copyright")
		assert.FileExists(t, "/usr/share/doc/"+program+"/operations.md")
	}
	wanted := "--tls-certificate" // beyond this machine the service wants a certificate: all else is right
	if kept {
		wanted = "chown -R nurvik"
		assert.Contains(t, said, "/var/lib/nurvik is there already and belongs to ")
	} else {
		was = []byte("700 nurvik nurvik\n")
	}
	assert.Equal(t, string(was), root(0, "stat", "-c", "%a %U %G", "/var/lib/nurvik"))
	assert.Equal(t, "640 root nurvik\n", root(0, "stat", "-c", "%a %U %G", "/etc/nurvik/nurvikd.yaml"))
	for _, unit := range []string{"nurvikd.service", "nurvikd-work.service", "nurvik-collect.service",
		"nurvik-collect.timer"} {
		text, err := os.ReadFile("/usr/lib/systemd/system/" + unit)
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(string(text), "[Unit]\n"), unit)
		assert.NotContains(t, string(text), "/usr/local", unit)
	}
	help, err := exec.Command("bash", "-c",
		". /usr/share/bash-completion/completions/nurvik && complete -p nurvik").Output()
	require.NoError(t, err)
	assert.Contains(t, string(help), "nurvik")
	// The settings that came with the package are read, and say nothing.
	check := exec.Command("/usr/bin/nurvikd", "serve", "--listen", "192.0.2.1:1")
	check.Env = append(os.Environ(), "XDG_CONFIG_HOME=/etc", "NURVIK_CONFIG=/etc/nurvik/nurvikd.yaml")
	wants, _ := check.CombinedOutput()
	assert.Contains(t, string(wants), wanted)

	root(0, "dpkg", "--install", files[0], files[1]) // an update to itself
	root(0, "dpkg", "--remove", "nurvikd")
	assert.NoFileExists(t, "/usr/bin/nurvikd")
	assert.FileExists(t, "/usr/bin/nurvik")
	root(0, "test", "-f", "/etc/nurvik/nurvikd.yaml")
	assert.Contains(t, root(0, "dpkg", "--purge", "nurvikd"), "still in /var/lib/nurvik")
	root(1, "test", "-f", "/etc/nurvik/nurvikd.yaml")
	root(0, "test", "-d", "/var/lib/nurvik")
}

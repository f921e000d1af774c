// Package version knows which build of Nurvik this is.
package version

import "runtime/debug"

// Number is set by the linker: the tag or commit that the build was made from.
var Number = "development"

// Go is the version of the toolchain.
func Go() string {
	if info, ok := debug.ReadBuildInfo(); ok {
		return info.GoVersion
	}
	return "unknown"
}

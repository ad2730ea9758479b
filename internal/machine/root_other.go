//go:build !linux

package machine

// openResolver opens the folder dir of this computer as a machine's root.
func openResolver(dir string, hook hook) (resolver, error) { return openPortable(dir, hook) }

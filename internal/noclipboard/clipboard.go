// Package clipboard stands in for the library of that name, which starts
// foreign programs to reach a desktop's clipboard. The text field of the
// full-screen view imports it. Nothing is reached here; terminals paste by
// themselves.
package clipboard

import "errors"

// Unsupported says that there is no clipboard.
const Unsupported = true

var errNone = errors.New("there is no clipboard")

// ReadAll fails.
func ReadAll() (string, error) { return "", errNone }

// WriteAll fails.
func WriteAll(string) error { return errNone }

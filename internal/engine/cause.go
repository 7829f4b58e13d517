package engine

import "errors"

// RootCause is what lies at the bottom of an error about a connection: what is around it repeats
// addresses. Of several, one for each address and way, the last will do.
func RootCause(err error) error {
	for {
		next := errors.Unwrap(err)
		if several, ok := err.(interface{ Unwrap() []error }); ok {
			if list := several.Unwrap(); len(list) > 0 {
				next = list[len(list)-1]
			}
		}
		if next == nil {
			return err
		}
		err = next
	}
}

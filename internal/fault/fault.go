// Package fault is the one kind of error that Grain Keep shows to people and
// scripts: a stable code, what happened to what, what to do about it, and the
// exit class that follows from it.
package fault

import (
	"errors"
	"fmt"
	"reflect"
	"strings"
)

// Class is the exit code that an error leads to. The numbers are a contract
// with scripts; see docs/guide.md.
type Class int

// The exit classes.
const (
	Done      Class = 0 // finished, nothing to say
	Failed    Class = 1 // at least one database failed
	Usage     Class = 2 // wrong use or configuration
	Warned    Class = 3 // finished, with warnings
	Stale     Class = 4 // the newest restorable moment is too old
	ProvenBad Class = 5 // verify or drill found a dump to be bad
	Running   Class = 6 // the job is already running
)

// Error is an error with advice.
type Error struct {
	Code  string // stable, for scripts: "keep-unmarked"
	Class Class
	What  string // what happened, to what
	Do    string // what to do about it; may be empty
	Err   error  // the cause; may be nil
}

// New makes an error of class Failed. The cause may be nil.
func New(code string, cause error, format string, args ...any) *Error {
	return &Error{Code: code, Class: Failed, What: fmt.Sprintf(format, args...), Err: cause}
}

// Wrong makes an error of class Usage.
func Wrong(code, format string, args ...any) *Error {
	return &Error{Code: code, Class: Usage, What: fmt.Sprintf(format, args...)}
}

// Exit sets the exit class.
func (e *Error) Exit(c Class) *Error { e.Class = c; return e }

// Advise sets what to do about it.
func (e *Error) Advise(format string, args ...any) *Error {
	e.Do = fmt.Sprintf(format, args...)
	return e
}

// Error gives what happened and the cause, without the advice.
func (e *Error) Error() string {
	if e.Err == nil {
		return e.What
	}
	return e.What + ": " + said(e.Err)
}

// said is an error's text. Errors that were joined are on one line, as everything is that people are told.
func said(err error) string {
	var each []string
	for _, e := range Parts(err) {
		each = append(each, e.Error())
	}
	return strings.Join(each, "; also: ")
}

// Parts gives the errors of which errors.Join made one; of any other error just that.
func Parts(err error) (list []error) {
	j, is := err.(interface{ Unwrap() []error })
	if !is || reflect.TypeOf(err) != reflect.TypeOf(errors.Join(err)) {
		return []error{err}
	}
	for _, e := range j.Unwrap() {
		list = append(list, Parts(e)...)
	}
	return list
}

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Err }

// Of finds the Error in a chain, or wraps a foreign error as code "failed".
func Of(err error) *Error {
	var e *Error
	if errors.As(err, &e) {
		if e.Error() == said(err) {
			return e
		}
		return &Error{Code: e.Code, Class: e.Class, What: said(err), Do: e.Do}
	}
	return &Error{Code: "failed", Class: Failed, What: said(err)}
}

// HasCode says whether the chain holds an Error with the code.
func HasCode(err error, code string) bool {
	var e *Error
	return errors.As(err, &e) && e.Code == code
}

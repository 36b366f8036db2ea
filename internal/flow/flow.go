// Package flow has the kinds of error that use cases return: why something was not done. The command line gives each kind an
// exit code. It knows no use case and prints nothing.
package flow

import "fmt"

// Kind is why something was not done.
type Kind int

// Kinds of errors.
const (
	Failed  Kind = iota // the work failed
	Usage               // what was asked for is wrong, and nothing was begun
	Differs             // things differ that must not
	Refused             // it would break a rule
	Unable              // this machine cannot do it
)

// Error is an error of a kind. One that wraps nothing has been told already.
type Error struct {
	Kind Kind
	Err  error
}

// Error implements error.
func (e *Error) Error() string {
	if e.Err == nil {
		return ""
	}
	return e.Err.Error()
}

// Unwrap returns the cause.
func (e *Error) Unwrap() error { return e.Err }

// WrongUse marks an error as a wrong use.
func WrongUse(err error) error { return &Error{Usage, err} }

// Usagef returns the error of a wrong use.
func Usagef(format string, values ...any) error { return errorf(Usage, format, values) }

// Failedf returns the error of work that failed, whatever the kinds of the errors in it.
func Failedf(format string, values ...any) error { return errorf(Failed, format, values) }

// Differsf returns the error of things that differ.
func Differsf(format string, values ...any) error { return errorf(Differs, format, values) }

// Refusedf returns the error of something that a rule forbids.
func Refusedf(format string, values ...any) error { return errorf(Refused, format, values) }

// Unablef returns the error of something that this machine cannot do.
func Unablef(format string, values ...any) error { return errorf(Unable, format, values) }

func errorf(kind Kind, format string, values []any) error {
	return &Error{kind, fmt.Errorf(format, values...)}
}

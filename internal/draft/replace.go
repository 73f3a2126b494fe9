package draft

import (
	"errors"
	"io/fs"

	"go.yaml.in/yaml/v4"
)

// whole is a file whose text is given, and that nothing else of the draft changes.
type whole []byte

var errWhole = errors.New("the file is written as a whole by this edit")

func (w whole) bytes() []byte                                       { return w }
func (w whole) proved() error                                       { return nil }
func (w whole) add(*yaml.Node) error                                { return errWhole }
func (w whole) set(string, string, *yaml.Node) error                { return errWhole }
func (w whole) remove(string) error                                 { return errWhole }
func (w whole) body(string) (*yaml.Node, error)                     { return nil, errWhole }
func (w whole) each(string, func(_, _ string) (string, bool)) error { return nil }
func (w whole) drop(string, func(_, _ string) bool) error           { return errWhole }

// Replace gives a file of the workspace another text, or makes it.
func (d *Draft) Replace(name string, text []byte) error {
	old, err := fs.ReadFile(d.under, name)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	d.sheets[name], d.before[name] = whole(text), old
	return nil
}

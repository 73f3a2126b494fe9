// Package tabular writes CSV (RFC 4180) that a spreadsheet shows as it is: a cell that it would calculate begins with
// an apostrophe, and Value takes that away again.
package tabular

import (
	"encoding/csv"
	"io"
	"strings"
)

// calculated are the characters at which spreadsheets begin to calculate, and the apostrophe that keeps them from it.
const calculated = "=+-@\t\r'"

// Cell writes a text so that no spreadsheet calculates it.
func Cell(text string) string {
	if text != "" && strings.IndexByte(calculated, text[0]) >= 0 {
		return "'" + text
	}
	return text
}

// Value gives the text for which Cell stands.
func Value(cell string) string {
	if text, ok := strings.CutPrefix(cell, "'"); ok && text != "" && strings.IndexByte(calculated, text[0]) >= 0 {
		return text
	}
	return cell
}

// Writer writes rows.
type Writer struct{ csv *csv.Writer }

// NewWriter gives a writer of rows.
func NewWriter(out io.Writer) *Writer { return &Writer{csv.NewWriter(out)} }

// Write writes a row. Its error is told by Flush.
func (w *Writer) Write(cells []string) {
	row := make([]string, len(cells))
	for i, text := range cells {
		row[i] = Cell(text)
	}
	_ = w.csv.Write(row)
}

// Flush ends the writing and tells what went wrong.
func (w *Writer) Flush() error {
	w.csv.Flush()
	return w.csv.Error()
}

// Package term is what all commands have of a terminal: where they write, tables and
// JSON, progress, questions, wrong use and exit codes.
package term

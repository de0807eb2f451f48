// Package rule decides what names mean: patterns of repositories and tags, kinds of
// tags, lists of rules and what they say of one thing, spans of time and sizes as
// people write them.
//
// It is pure: values in, a verdict with its reason out. It knows no records, no clock
// and no request, and everything it reads may come from anybody: it is bounded, and
// what is wrong is answered with the line, the rule and what is possible. All of it is
// safe for concurrent use.
package rule

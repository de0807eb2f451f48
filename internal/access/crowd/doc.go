// Package crowd bounds how many do something at once, in total and from one address.
package crowd

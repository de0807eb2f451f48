// Package site finds out for a command which registry and which place it is about, how
// that is reached, and with which login.
package site

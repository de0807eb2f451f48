// Package sweeps tests what goes: garbage collection, scrubs and erasing, driven through
// the service.
package sweeps

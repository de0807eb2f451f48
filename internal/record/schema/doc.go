// Package schema is the shape of the records: how their file is opened, and how records
// of every version before are brought to that of today. A released migration never
// changes.
package schema

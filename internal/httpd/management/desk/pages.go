package desk

import (
	"encoding/base64"
	"encoding/json"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// PartInput asks for a part of a list. It is exported for the API library, which reads embedded fields only of exported types.
type PartInput struct {
	Contains string `query:"contains" maxLength:"255" doc:"Keep what has this text in its name, in any case"`
	After    string `query:"after" maxLength:"1024" doc:"The next of the page before"`
	Limit    int    `query:"limit" minimum:"1" maximum:"1000" default:"100" doc:"Rows in the page"`
}

// PageInput is what every list takes.
type PageInput struct {
	PartInput
	Sort string `query:"sort" enum:"name,change" default:"name" doc:"By name, or what changed last first"`
}

// Page returns what is asked of the records: one row more than the page has.
func (p PageInput) Page() (record.Page, error) { return p.By(p.Sort) }

// Cursor is the key of the last row of a page, opaque to callers.
type Cursor struct {
	Name string       `json:"n"`
	At   record.Stamp `json:"t,omitempty"`
}

// By returns what is asked of the records in an order: one row more than the page has.
func (p PartInput) By(order string) (record.Page, error) {
	page := record.Page{Order: record.Order(order), Contains: p.Contains, Limit: p.Limit + 1}
	if p.After == "" {
		return page, nil
	}
	raw, err := base64.RawURLEncoding.DecodeString(p.After)
	var key Cursor
	if err != nil || json.Unmarshal(raw, &key) != nil {
		return page, oci.Errorf(oci.CodeQueryInvalid, "after is not the next of another page")
	}
	page.After, page.AfterAt = key.Name, key.At
	return page, nil
}

// Cut takes the extra row that says whether more follow, and returns the key of
// the last one that stays.
func Cut[T any](rows []T, limit int, key func(T) Cursor) ([]T, string) {
	if len(rows) <= limit {
		return rows, ""
	}
	rows = rows[:limit]
	// A cursor of a string and a number always marshals.
	raw, _ := json.Marshal(key(rows[limit-1]))
	return rows, base64.RawURLEncoding.EncodeToString(raw)
}

package site

import (
	"warthesis/internal/api"
	"warthesis/internal/oci"
)

// PageSize is how many rows one request of a list asks for.
const PageSize = 500

// EveryPage gathers a list page by page.
func EveryPage[Row any](page api.List, ask func(api.List) (rows []Row, next string, err error)) ([]Row, error) {
	all := []Row{}
	asked := map[string]bool{}
	for {
		rows, next, err := ask(page)
		if err != nil {
			return nil, err
		}
		all = append(all, rows...)
		if next == "" {
			return all, nil
		}
		if asked[next] || len(all) > mostRows {
			return nil, oci.Errorf(oci.CodeUnsupported, "the registry's list does not come to an end: its pages repeat, or are more than %d rows", mostRows)
		}
		asked[next], page.After = true, next
	}
}

// mostRows bounds what one list may bring.
const mostRows = 10_000_000

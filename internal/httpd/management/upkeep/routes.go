// Package upkeep answers about what keeps a registry in order: the work beside
// requests.
package upkeep

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"warthesis/internal/httpd/management/desk"
)

type door struct{ *desk.Desk }

// Register puts the routes of this area into the API.
func Register(_ gin.IRouter, a huma.API, o *desk.Desk) {
	d := &door{o}
	huma.Register(a, desk.At(http.MethodGet, "/runs", "runs", "List runs: the work beside requests"), d.runs)
	huma.Register(a, desk.At(http.MethodGet, "/runs/{id}", "run", "One run"), d.run)
	huma.Register(a, desk.At(http.MethodPost, "/runs/{id}/stop", "stop-run", "Stop a run that waits or goes"), d.stopRun)
	huma.Register(a, desk.At(http.MethodGet, "/run-kinds", "run-kinds", "The kinds of work beside requests, and when they run by themselves"), d.runKinds)
	huma.Register(a, desk.At(http.MethodGet, "/runs/{id}/items", "run-items", "List what a sweep took, or its preview found"), d.items)
	huma.Register(a, desk.At(http.MethodPost, "/sweeps", "sweep", "Ask for a sweep, or for its preview"), d.askSweep)
	huma.Register(a, desk.At(http.MethodPost, "/scrubs", "scrub", "Ask for a scrub: files are read against their digests"), d.askScrub)
	huma.Register(a, desk.At(http.MethodGet, "/hurts", "hurts", "List content whose file is not what it should be"), d.hurts)
	huma.Register(a, desk.At(http.MethodGet, "/hurts/{digest}", "hurt", "Tell which images are hurt by a file, and who pulled them"), d.hurt)
	huma.Register(a, desk.At(http.MethodGet, "/explain", "explain", "Tell why content is here, or when it may go"), d.explain)
	huma.Register(a, desk.At(http.MethodGet, "/erase-plan", "erase-plan", "Tell what would go with content that is erased"), d.erasePlan)
	huma.Register(a, desk.At(http.MethodPost, "/erase", "erase", "Take content at once and for good, with all that names it, and keep it out"), d.erase)
	huma.Register(a, desk.At(http.MethodGet, "/bans", "bans", "List what is kept out"), d.bans)
	huma.Register(a, desk.At(http.MethodPost, "/bans/{id}/lift", "lift-ban", "Let content be pushed again that was erased"), d.liftBan)
	huma.Register(a, desk.At(http.MethodGet, "/health", "health", "How well the registry is: disk, files, records"), d.health)
	huma.Register(a, desk.At(http.MethodGet, "/rules", "rules", "Show the list of rules of a place, or of a name"), d.rules)
	huma.Register(a, desk.At(http.MethodPut, "/rules", "set-rules", "Set a list of rules"), d.setRules)
	huma.Register(a, desk.At(http.MethodDelete, "/rules", "remove-rules", "Remove a list of rules"), d.removeRules)
	huma.Register(a, desk.At(http.MethodPost, "/rules/preview", "preview-rules", "Tell what a list of rules would do"), d.previewRules)
	huma.Register(a, desk.At(http.MethodGet, "/rules/explain", "explain-rules", "Tell which rule decides of a tag, and why the others do not"), d.explainRules)
	huma.Register(a, desk.At(http.MethodGet, "/rule-lists", "rule-lists", "List the lists of rules that have names"), d.ruleLists)
	huma.Register(a, desk.At(http.MethodGet, "/usage", "usage", "Tell how much a place holds, and what is in it"), d.usage)
	huma.Register(a, desk.At(http.MethodGet, "/usage/growth", "usage-growth", "Tell how much there was, a line a day"), d.growth)
	huma.Register(a, desk.At(http.MethodGet, "/usage/traffic", "traffic", "Tell what went in and out, by day, namespace or account"), d.traffic)
	huma.Register(a, desk.At(http.MethodGet, "/usage/labels", "usage-labels", "Sum up what namespaces hold by the value of a label"), d.labels)
	huma.Register(a, desk.At(http.MethodGet, "/quotas", "quotas", "List quotas with what is used of them"), d.quotas)
	huma.Register(a, desk.At(http.MethodPut, "/quota", "set-quota", "Set a quota of a namespace, a repository or an account"), d.setQuota)
	huma.Register(a, desk.At(http.MethodPost, "/removals/end", "end-windows", "End the restore windows of removals early"), d.endWindows)
	huma.Register(a, desk.At(http.MethodPost, "/rules/act", "act-rules", "Let a list of rules that waits act at once"), d.actRules)
	huma.Register(a, desk.At(http.MethodGet, "/retention", "retention", "Tell what the retention rules that are set would do, now and on days to come"), d.retention)
	huma.Register(a, desk.At(http.MethodPost, "/retention/preview", "try-retention", "Tell what a list of retention rules would do"), d.tryRetention)
	huma.Register(a, desk.At(http.MethodGet, "/retention/explain", "explain-retention", "Tell which retention rule decides of a tag or an image, and when it goes"), d.explainRetention)
	huma.Register(a, desk.At(http.MethodPost, "/retention/run", "run-retention", "Ask for a run of retention rules"), d.askRetention)
	huma.Register(a, desk.At(http.MethodGet, "/in-use", "in-use-lists", "List the lists of what is in use"), d.inUseLists)
	huma.Register(a, desk.At(http.MethodGet, "/in-use/{name}", "in-use", "Show what is in use, and whether it is held here"), d.inUse)
	huma.Register(a, desk.At(http.MethodPut, "/in-use/{name}", "make-in-use", "Make a list of what is in use, or change who keeps it"), d.makeInUse)
	refresh := desk.At(http.MethodPost, "/in-use/{name}/refresh", "refresh-in-use", "Set what is in use")
	refresh.MaxBodyBytes = mostInUse
	huma.Register(a, refresh, d.refreshInUse)
	huma.Register(a, desk.At(http.MethodDelete, "/in-use/{name}", "remove-in-use", "Remove a list of what is in use"), d.removeInUse)
	huma.Register(a, desk.At(http.MethodGet, "/removals", "removals", "List what was removed that the caller may undo"), d.removals)
	huma.Register(a, desk.At(http.MethodGet, "/removals/{id}", "removal", "Show what went by a removal"), d.removal)
	huma.Register(a, desk.At(http.MethodPost, "/removals/{id}/undo", "undo-removal", "Bring back all that went by a removal, or nothing"), d.undo)
	huma.Register(a, desk.At(http.MethodGet, "/removal-plan", "removal-plan", "Tell what a removal would take, and what would stay"), d.plan)
	huma.Register(a, desk.At(http.MethodDelete, "/image", "remove-image", "Remove an image with its tags"), d.removeImage)
}

package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// The table of who may do what, which the documents show as it stands here.

// need is what a route takes.
type need int

const (
	// anybody, or whoever logs in at all.
	nothingAtAll need = iota
	aLogin
	// rights to the repository.
	toCheck
	toPull
	toPush
	toDelete
	// moving names takes both.
	toPushAndDelete
	toManage
	// a role in the namespace, whatever it is.
	toBeMember
	// rights to the registry.
	toSeeAccounts
	toReadAudit
	// to push there, or a role on the registry.
	toSeeUsage
	// to manage there as well, or a role on the registry.
	toSeePulls
	toBeAdmin
	// a credential that covers all that its account may.
	aWholeLogin
)

// door is which door a route belongs to: they refuse in different words.
type doorOf int

const (
	protocolDoor doorOf = iota
	managementDoor
)

type rightsRoute struct {
	says   string
	door   doorOf
	need   need
	method string
	// path and body are for a repository such as closed/app; a fresh number each time.
	path func(w *rightsWorld, repository string) string
	body func(w *rightsWorld, repository string) string
	// done is the status for who may.
	done int
	// unknown is the status for who may not know of the repository; 404 where left out.
	unknown int
	// prepared routes ask about what is made in the repository first.
	prepared bool
}

func path(format string) func(*rightsWorld, string) string {
	return func(_ *rightsWorld, repository string) string {
		return strings.NewReplacer("{repository}", repository, "{namespace}", oci.Name(repository).Namespace()).Replace(format)
	}
}

var rightsRoutes = []rightsRoute{
	{says: "ask for the version", need: aLogin, method: "GET", path: path("/v2/"), done: 200},
	{says: "list repositories", need: aLogin, method: "GET", path: path("/v2/_catalog"), done: 200},
	{says: "look whether a manifest is there", need: toCheck, method: "HEAD", path: path("/v2/{repository}/manifests/kept"), done: 200},
	{says: "look whether a blob is there", need: toCheck, method: "HEAD", path: keptBlob, done: 200},
	{says: "pull a manifest", need: toPull, method: "GET", path: path("/v2/{repository}/manifests/kept"), done: 200},
	{says: "pull a blob", need: toPull, method: "GET", path: keptBlob, done: 200},
	{says: "list tags", need: toPull, method: "GET", path: path("/v2/{repository}/tags/list"), done: 200},
	{says: "list referrers", need: toPull, method: "GET", path: func(w *rightsWorld, repository string) string {
		return "/v2/" + repository + "/referrers/" + w.manifest.String()
	}, done: 200, unknown: 200},
	{says: "begin an upload", need: toPush, method: "POST", path: path("/v2/{repository}/blobs/uploads/"), done: 202, unknown: 403},
	{says: "push a manifest", need: toPush, method: "PUT", path: path("/v2/{repository}/manifests/kept"),
		body: func(w *rightsWorld, _ string) string { return w.raw }, done: 201, unknown: 403},
	{says: "delete a tag", need: toDelete, method: "DELETE", path: func(w *rightsWorld, repository string) string {
		w.put(repository, "going", w.raw)
		return "/v2/" + repository + "/manifests/going"
	}, done: 202},
	{says: "delete a manifest", need: toDelete, method: "DELETE", path: func(w *rightsWorld, repository string) string {
		return "/v2/" + repository + "/manifests/" + w.put(repository, "going", w.fresh()).String()
	}, done: 202},
	{says: "delete a blob", need: toDelete, method: "DELETE", path: func(w *rightsWorld, repository string) string {
		w.number++
		return "/v2/" + repository + "/blobs/" + kit.PutBlob(w.t, w.s, repository, fmt.Append(nil, "blob ", w.number)).String()
	}, done: 202},

	{says: "see what the registry is", door: managementDoor, need: nothingAtAll, method: "GET", path: path("/api/v1/service"), done: 200},
	{says: "look at a repository", door: managementDoor, need: toPull, method: "GET", path: path("/api/v1/repository?repository={repository}"), done: 200},
	{says: "look at its tags", door: managementDoor, need: toPull, method: "GET", path: path("/api/v1/tags?repository={repository}"), done: 200},
	{says: "see what tags pointed to", door: managementDoor, need: toPull, method: "GET", path: path("/api/v1/tag-log?repository={repository}&tag=kept"), done: 200},
	{says: "ask for the next version", door: managementDoor, need: toPull, method: "GET", path: path("/api/v1/next-version?repository={repository}"), done: 200},
	{says: "hold the name of the next version", door: managementDoor, need: toPush, method: "POST", path: path("/api/v1/next-version?repository={repository}"), done: 200},
	{says: "list reserved tag names", door: managementDoor, need: toManage, method: "GET", path: path("/api/v1/reservations?repository={repository}"), done: 200},
	{says: "release a reserved tag name", prepared: true, door: managementDoor, need: toManage, method: "DELETE", path: func(w *rightsWorld, repository string) string {
		var held api.NextVersion
		w.must("POST", "/api/v1/next-version?repository="+repository, "", &held)
		return "/api/v1/reservations?repository=" + repository + "&tag=" + string(held.Tag)
	}, done: 204},
	{says: "add a tag to what is there", door: managementDoor, need: toPush, method: "POST", path: path("/api/v1/tags?repository={repository}"),
		body: func(w *rightsWorld, _ string) string {
			w.number++
			return fmt.Sprintf(`{"changes":[{"act":"add","tag":"added%d","to":%q}]}`, w.number, w.manifest)
		}, done: 200},
	{says: "move a tag by hand", door: managementDoor, need: toPushAndDelete, method: "POST", path: path("/api/v1/tags?repository={repository}"),
		body: func(w *rightsWorld, _ string) string {
			return fmt.Sprintf(`{"changes":[{"act":"move","tag":"kept","to":%q}]}`, w.manifest)
		}, done: 200},
	{says: "rename a tag", door: managementDoor, need: toPushAndDelete, method: "POST", path: path("/api/v1/tags?repository={repository}"),
		body: func(w *rightsWorld, _ string) string {
			w.number++
			return fmt.Sprintf(`{"changes":[{"act":"add","tag":"called%[1]d","to":%[2]q},{"act":"rename","tag":"called%[1]d","name":"renamed%[1]d"}]}`, w.number, w.manifest)
		}, done: 200},
	{says: "remove a tag", door: managementDoor, need: toDelete, method: "POST", path: path("/api/v1/tags?repository={repository}"),
		body: func(w *rightsWorld, repository string) string {
			w.put(repository, "going", w.raw)
			return `{"changes":[{"act":"remove","tag":"going"}]}`
		}, done: 200},
	{says: "look into an image", door: managementDoor, need: toPull, method: "GET", path: path("/api/v1/image?repository={repository}&reference=kept"), done: 200},
	{says: "see the members of a namespace", door: managementDoor, need: toBeMember, method: "GET", path: path("/api/v1/roles?place={namespace}"), done: 200},
	{says: "change a repository", door: managementDoor, need: toManage, method: "PATCH", path: path("/api/v1/repository?repository={repository}"),
		body: text(`{"description":"x"}`), done: 204, unknown: 403},
	{says: "make a repository", door: managementDoor, need: toManage, method: "POST", path: path("/api/v1/repositories"),
		body: func(w *rightsWorld, repository string) string {
			w.number++
			return fmt.Sprintf(`{"name":"%s/made%d"}`, oci.Name(repository).Namespace(), w.number)
		}, done: 204, unknown: 403},
	{says: "remove a repository", door: managementDoor, need: toManage, method: "DELETE", path: func(w *rightsWorld, repository string) string {
		w.number++
		name := fmt.Sprintf("%s/gone%d", oci.Name(repository).Namespace(), w.number)
		kit.PutBlob(w.t, w.s, name, []byte("x"))
		return "/api/v1/repository?repository=" + name
	}, done: 200, unknown: 403},
	{says: "see what removing a repository would take", door: managementDoor, need: toManage, method: "GET", path: path("/api/v1/removal-plan?repository={repository}"), done: 200, unknown: 403},
	{says: "see what removing an image would take", door: managementDoor, need: toDelete, method: "GET", path: path("/api/v1/removal-plan?repository={repository}&reference=kept"), done: 200},
	{says: "remove an image", door: managementDoor, need: toDelete, method: "DELETE", path: func(w *rightsWorld, repository string) string {
		return "/api/v1/image?repository=" + repository + "&digest=" + w.put(repository, "going", w.fresh()).String()
	}, done: 200},
	{says: "see what was removed", door: managementDoor, need: aLogin, method: "GET", path: path("/api/v1/removals?place={repository}"), done: 200},
	{says: "see what went by a removal", prepared: true, door: managementDoor, need: toDelete, method: "GET", path: func(w *rightsWorld, repository string) string {
		return fmt.Sprint("/api/v1/removals/", w.remove(repository))
	}, done: 200},
	{says: "undo a removal", prepared: true, door: managementDoor, need: toDelete, method: "POST", path: func(w *rightsWorld, repository string) string {
		return fmt.Sprint("/api/v1/removals/", w.remove(repository), "/undo")
	}, body: text("{}"), done: 200},
	{says: "seal a tag by hand", prepared: true, door: managementDoor, need: toPushAndDelete, method: "POST", path: path("/api/v1/seal?repository={repository}"),
		body: func(w *rightsWorld, repository string) string {
			w.number++
			tag := fmt.Sprint("sealed", w.number)
			w.put(repository, tag, w.raw)
			return fmt.Sprintf(`{"tag":%q,"seal":true,"reason":"x"}`, tag)
		}, done: 204},
	{says: "take a seal away", prepared: true, door: managementDoor, need: toManage, method: "POST", path: path("/api/v1/seal?repository={repository}"),
		body: func(w *rightsWorld, repository string) string {
			w.number++
			tag := fmt.Sprint("sealed", w.number)
			w.put(repository, tag, w.raw)
			kit.AsAdmin(w.t, w.s, http.MethodPost, "/api/v1/seal?repository="+repository, fmt.Sprintf(`{"tag":%q,"seal":true,"reason":"x"}`, tag))
			return fmt.Sprintf(`{"tag":%q,"seal":false,"reason":"x"}`, tag)
		}, done: 204},
	{says: "see which rule decides of a tag", door: managementDoor, need: toPull, method: "GET", path: path("/api/v1/rules/explain?repository={repository}&tag=kept"), done: 200},
	{says: "see the rules of a namespace", door: managementDoor, need: toPush, method: "GET", path: path("/api/v1/rules?place={namespace}"), done: 200, unknown: 403},
	{says: "see the rules of the registry", door: managementDoor, need: toSeeAccounts, method: "GET", path: path("/api/v1/rules"), done: 200},
	{says: "see the lists with names", door: managementDoor, need: toSeeAccounts, method: "GET", path: path("/api/v1/rule-lists"), done: 200},
	{says: "set the rules of a repository", door: managementDoor, need: toManage, method: "PUT", path: path("/api/v1/rules?place={repository}"),
		body: text(`{"words":"- seal: \"*:never\"","reason":"x"}`), done: 204, unknown: 403},
	{says: "set the rules of the registry", door: managementDoor, need: toBeAdmin, method: "PUT", path: path("/api/v1/rules"), body: text(`{"words":"- free: x","reason":"x"}`), done: 204},
	{says: "set a list with a name", door: managementDoor, need: toBeAdmin, method: "PUT", path: path("/api/v1/rules?list=some"), body: text(`{"words":"- free: x","reason":"x"}`), done: 204},
	{says: "see what rules would do", door: managementDoor, need: toManage, method: "POST", path: path("/api/v1/rules/preview?place={namespace}"), body: text(`{"words":"- seal: x"}`), done: 200, unknown: 403},
	{says: "remove the rules of a repository", door: managementDoor, need: toManage, method: "DELETE", path: func(w *rightsWorld, repository string) string {
		kit.AsAdmin(w.t, w.s, http.MethodPut, "/api/v1/rules?place="+repository, `{"words":"- free: x","reason":"x"}`)
		return "/api/v1/rules?reason=x&place=" + repository
	}, done: 204, unknown: 403},
	{says: "see which retention rule decides of a tag", door: managementDoor, need: toPull, method: "GET", path: path("/api/v1/retention/explain?repository={repository}&target=kept"), done: 200},
	{says: "see what the retention rules of a namespace do", door: managementDoor, need: toPush, method: "GET", path: path("/api/v1/retention?place={namespace}"), done: 200, unknown: 403},
	{says: "see what the retention rules of the registry do", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/retention"), done: 200},
	{says: "see what retention rules would do", door: managementDoor, need: toManage, method: "POST", path: path("/api/v1/retention/preview?place={namespace}"), body: text(`{"words":"- drop: x"}`), done: 200, unknown: 403},
	{says: "set the retention rules of a repository", door: managementDoor, need: toManage, method: "PUT", path: path("/api/v1/rules?kind=retention&place={repository}"),
		body: text(`{"words":"- drop: \"*:never\"","reason":"x"}`), done: 204, unknown: 403},
	{says: "let rules that wait act at once", prepared: true, door: managementDoor, need: toManage, method: "POST", path: func(w *rightsWorld, repository string) string {
		w.number++
		kit.AsAdmin(w.t, w.s, http.MethodPut, "/api/v1/rules?kind=retention&place="+repository, fmt.Sprintf(`{"words":"- drop: \"*:never%d\"","reason":"x"}`, w.number))
		return "/api/v1/rules/act?kind=retention&place=" + repository
	}, body: text(`{"reason":"x"}`), done: 204, unknown: 403},
	{says: "let retention rules act in a place", door: managementDoor, need: toManage, method: "POST", path: path("/api/v1/retention/run"), body: path(`{"place":"{repository}"}`), done: 200, unknown: 403},
	{says: "let all retention rules act", door: managementDoor, need: toBeAdmin, method: "POST", path: path("/api/v1/retention/run"), body: text(`{}`), done: 200},
	{says: "make a list of what is in use", door: managementDoor, need: toBeAdmin, method: "PUT", path: path("/api/v1/in-use/some"), body: text(`{}`), done: 204},
	{says: "say what is in use, of a list that another keeps", door: managementDoor, need: toBeAdmin, method: "POST", path: path("/api/v1/in-use/some/refresh"), body: text(`{"references":["a/b:1"],"shrink":true}`), done: 200},
	{says: "see which lists of what is in use there are", door: managementDoor, need: toSeeAccounts, method: "GET", path: path("/api/v1/in-use"), done: 200},
	{says: "see what is in use", door: managementDoor, need: toSeeAccounts, method: "GET", path: path("/api/v1/in-use/some"), done: 200},
	{says: "remove a list of what is in use", door: managementDoor, need: toBeAdmin, method: "DELETE", path: path("/api/v1/in-use/none?reason=x"), done: 404},
	{says: "see how much a repository holds", door: managementDoor, need: toSeeUsage, method: "GET", path: path("/api/v1/usage?place={repository}"), done: 200, unknown: 403},
	{says: "see how much they may push to holds", door: managementDoor, need: aLogin, method: "GET", path: path("/api/v1/usage"), done: 200},
	{says: "see how a namespace grew", door: managementDoor, need: toSeeUsage, method: "GET", path: path("/api/v1/usage/growth?place={namespace}"), done: 200, unknown: 403},
	{says: "see what went in and out of a namespace", door: managementDoor, need: toSeeUsage, method: "GET", path: path("/api/v1/usage/traffic?place={namespace}"), done: 200, unknown: 403},
	{says: "see who pulls from a namespace", door: managementDoor, need: toSeePulls, method: "GET", path: path("/api/v1/usage/traffic?place={namespace}&by=account"), done: 200, unknown: 403},
	{says: "see what went in and out of the registry", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/usage/traffic"), done: 200},
	{says: "see what labels hold", door: managementDoor, need: aLogin, method: "GET", path: path("/api/v1/usage/labels?label=team"), done: 200},
	{says: "list tags with their digests", need: toPull, method: "GET", path: path("/v2/{repository}/_warthesis/tags/digests"), done: 200},
	{says: "ask for extensions", need: aLogin, method: "GET", path: path("/v2/_oci/ext/discover"), done: 200},
	{says: "list the peers", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/peers"), done: 200},
	{says: "make a peer", door: managementDoor, need: toBeAdmin, method: "POST", path: path("/api/v1/peers"), body: path(`{"name":"x","address":"127.0.0.1:1","unencrypted":true,"try":true}`), done: 200},
	{says: "look into a peer", door: managementDoor, need: toBeAdmin, method: "GET", path: path("/api/v1/peers/nothing/repositories"), done: 404},
	{says: "see what namespaces follow", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/follows"), done: 200},
	{says: "say what a namespace follows", door: managementDoor, need: toBeAdmin, method: "PUT", path: path("/api/v1/follow?namespace={namespace}"), body: path(`{"sources":[{"peer":"nothing"}]}`), done: 422},
	{says: "let a namespace follow nobody", door: managementDoor, need: toBeAdmin, method: "DELETE", path: path("/api/v1/follow?namespace={namespace}"), done: 404},
	{says: "list what is brought in from peers", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/imports"), done: 200},
	{says: "see what is brought in", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/imports/nothing"), done: 404},
	{says: "bring in repositories of a peer", door: managementDoor, need: toBeAdmin, method: "POST", path: path("/api/v1/imports"), body: path(`{"name":"x","peer":"nothing","what":[{"from":"a/b"}]}`), done: 422},
	{says: "bring them in again", door: managementDoor, need: toBeAdmin, method: "POST", path: path("/api/v1/imports/nothing/run"), body: path(`{}`), done: 404},
	{says: "remove an import", door: managementDoor, need: toBeAdmin, method: "DELETE", path: path("/api/v1/imports/nothing"), done: 404},
	{says: "ask whether there is room for what is carried in", door: managementDoor, need: toPush, method: "POST", path: path("/api/v1/arrivals"),
		body: path(`{"kind":"copy","name":"a","images":1,"days":1,"ask":true,"places":[{"repository":"{repository}","bytes":1}]}`), done: 200},
	{says: "list what one carries in", door: managementDoor, need: aLogin, method: "GET", path: path("/api/v1/arrivals"), done: 200},
	{says: "see what one carries in", door: managementDoor, need: aLogin, method: "GET", path: path("/api/v1/arrivals/99"), done: 404},
	{says: "tell how far it is", door: managementDoor, need: aLogin, method: "PATCH", path: path("/api/v1/arrivals/99"), body: path(`{"state":"going","images_done":0,"lacks":0,"bytes":0,"bytes_done":0}`), done: 404},
	{says: "wait no longer for it", door: managementDoor, need: aLogin, method: "DELETE", path: path("/api/v1/arrivals/99"), done: 404},
	{says: "list the replication rules", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/replications"), done: 200},
	{says: "see the replication rules as YAML", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/replication-rules"), done: 200},
	{says: "set the replication rules", door: managementDoor, need: toBeAdmin, method: "PUT", path: path("/api/v1/replication-rules"), body: path(`{"text":"","try":true}`), done: 200},
	{says: "make a replication rule", door: managementDoor, need: toBeAdmin, method: "POST", path: path("/api/v1/replications"), body: path(`{"name":"x","copy":["*"],"to":"nothing"}`), done: 422},
	{says: "see a replication rule", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/replications/nothing"), done: 404},
	{says: "change a replication rule", door: managementDoor, need: toBeAdmin, method: "PUT", path: path("/api/v1/replications/nothing"), body: path(`{"copy":["*"],"to":"nothing"}`), done: 404},
	{says: "remove a replication rule", door: managementDoor, need: toBeAdmin, method: "DELETE", path: path("/api/v1/replications/nothing"), done: 404},
	{says: "let a replication rule run", door: managementDoor, need: toBeAdmin, method: "POST", path: path("/api/v1/replications/nothing/run"), body: path(`{}`), done: 404},
	{says: "pause a replication rule", door: managementDoor, need: toBeAdmin, method: "POST", path: path("/api/v1/replications/nothing/pause"), body: path(`{"paused":true}`), done: 404},
	{says: "see what is due", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/replications/nothing/due"), done: 404},
	{says: "see the drift", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/replications/nothing/drift"), done: 404},
	{says: "compare both sides of a rule", door: managementDoor, need: toBeAdmin, method: "POST", path: path("/api/v1/replications/nothing/drift"), body: path(`{}`), done: 404},
	{says: "see how a rule fared", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/replications/nothing/samples"), done: 404},
	{says: "see the quotas", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/quotas"), done: 200},
	{says: "set a quota", door: managementDoor, need: toBeAdmin, method: "PUT", path: path("/api/v1/quota"), body: path(`{"place":"{namespace}","quota":0,"reason":"x"}`), done: 204},
	{says: "end a restore window early", prepared: true, door: managementDoor, need: toManage, method: "POST", path: path("/api/v1/removals/end"),
		body: func(w *rightsWorld, repository string) string {
			return fmt.Sprintf(`{"removals":[%d],"reason":"x"}`, w.remove(repository))
		}, done: 204},
	{says: "change a namespace", door: managementDoor, need: toManage, method: "PATCH", path: path("/api/v1/namespaces/{namespace}"),
		body: text(`{"description":"x"}`), done: 204, unknown: 403},
	{says: "give a role", door: managementDoor, need: toManage, method: "PUT", path: path("/api/v1/roles"),
		body: func(_ *rightsWorld, repository string) string {
			return fmt.Sprintf(`{"place":%q,"account":"bystander","role":"reader"}`, oci.Name(repository).Namespace())
		}, done: 204, unknown: 403},
	{says: "see what narrowing a role would refuse", door: managementDoor, need: toManage, method: "GET",
		path: path("/api/v1/roles/uses?place={repository}&role=reader&account=bystander&instead_of={namespace}"), done: 200, unknown: 403},
	{says: "see an account and its roles", door: managementDoor, need: toSeeAccounts, method: "GET", path: path("/api/v1/accounts/bystander"), done: 200},
	{says: "see a group and its roles", door: managementDoor, need: toSeeAccounts, method: "GET", path: path("/api/v1/groups/nothing"), done: 404},
	{says: "list accounts", door: managementDoor, need: toSeeAccounts, method: "GET", path: path("/api/v1/accounts"), done: 200},
	{says: "list groups", door: managementDoor, need: toSeeAccounts, method: "GET", path: path("/api/v1/groups"), done: 200},
	{says: "read the audit log", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/audit"), done: 200},
	{says: "export the audit log", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/audit/lines"), done: 200},
	{says: "see the figures of the process", door: managementDoor, need: toReadAudit, method: "GET", path: path("/metrics"), done: 200},
	{says: "see the work beside requests", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/runs"), done: 200},
	{says: "see what runs by itself", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/run-kinds"), done: 200},
	{says: "stop a run", door: managementDoor, need: toBeAdmin, method: "POST", path: path("/api/v1/runs/99999/stop"), done: 404},
	{says: "see how well the registry is", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/health"), done: 200},
	{says: "see what is hurt", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/hurts"), done: 200},
	{says: "see what is kept out", door: managementDoor, need: toReadAudit, method: "GET", path: path("/api/v1/bans"), done: 200},
	{says: "let a sweep run", door: managementDoor, need: toBeAdmin, method: "POST", path: path("/api/v1/sweeps"), body: text(`{}`), done: 200},
	{says: "let a scrub run", door: managementDoor, need: toBeAdmin, method: "POST", path: path("/api/v1/scrubs"), body: text(`{}`), done: 200},
	{says: "let a sweep run in a place", door: managementDoor, need: toManage, method: "POST", path: path("/api/v1/sweeps"), body: path(`{"place":"{repository}"}`), done: 200, unknown: 403},
	{says: "let a scrub run in a place", door: managementDoor, need: toManage, method: "POST", path: path("/api/v1/scrubs"), body: path(`{"place":"{repository}"}`), done: 200, unknown: 403},
	{says: "see what would go with content that is erased", door: managementDoor, need: toManage, method: "GET",
		path: path("/api/v1/erase-plan?namespace={namespace}&digest=sha256:0000000000000000000000000000000000000000000000000000000000000000"), done: 200, unknown: 403},
	{says: "erase content", door: managementDoor, need: toManage, method: "POST", path: path("/api/v1/erase"),
		body: path(`{"digest":"sha256:0000000000000000000000000000000000000000000000000000000000000000","namespace":"{namespace}","reason":"x","mark":"x"}`), done: 412, unknown: 403},
	{says: "erase content of the whole registry", door: managementDoor, need: toBeAdmin, method: "POST", path: path("/api/v1/erase"),
		body: text(`{"digest":"sha256:0000000000000000000000000000000000000000000000000000000000000000","reason":"x","mark":"x"}`), done: 412},
	{says: "lift a ban of the registry", door: managementDoor, need: toBeAdmin, method: "POST", path: path("/api/v1/bans/99999/lift"), body: text(`{"reason":"x"}`), done: 404},
	{says: "ask why content is here", door: managementDoor, need: aLogin, method: "GET", path: path("/api/v1/explain?digest=sha256:0000000000000000000000000000000000000000000000000000000000000000"), done: 404},
	{says: "make a token", door: managementDoor, need: aWholeLogin, method: "POST", path: path("/api/v1/tokens"),
		body: text(`{"name":"x","days":1,"scopes":[{"pattern":"*","actions":["pull"]}]}`), done: 200},
	{says: "make an account", door: managementDoor, need: toBeAdmin, method: "POST", path: path("/api/v1/accounts"),
		body: func(w *rightsWorld, _ string) string {
			w.number++
			return fmt.Sprintf(`{"name":"made%d"}`, w.number)
		}, done: 200},
	{says: "make a namespace", door: managementDoor, need: toBeAdmin, method: "POST", path: path("/api/v1/namespaces"),
		body: func(w *rightsWorld, _ string) string {
			w.number++
			return fmt.Sprintf(`{"name":"made%d"}`, w.number)
		}, done: 204},
	{says: "change the registry's settings", door: managementDoor, need: toBeAdmin, method: "PUT", path: path("/api/v1/settings"),
		body: text(`{"accounts_make_namespaces":false,"push_makes_namespaces":true}`), done: 204},
}

func text(s string) func(*rightsWorld, string) string {
	return func(*rightsWorld, string) string { return s }
}

func keptBlob(w *rightsWorld, repository string) string {
	return "/v2/" + repository + "/blobs/" + w.config.String()
}

// rightsCaller is somebody who asks.
type rightsCaller struct {
	name string
	// role is in both namespaces; "" for none.
	role string
	// scope is that of a token by which the account comes, "" for a password.
	scope string
	// registry is a role on the registry, admin among them.
	registry string
	// elsewhere tells that the token covers another namespace alone, with every action.
	elsewhere bool
	// good tells whether the credential is any.
	good bool
}

var rightsCallers = []rightsCaller{
	{name: "nobody", good: true},
	{name: "foreign account", good: true},
	{name: "reader", role: "reader", good: true},
	{name: "writer", role: "writer", good: true},
	{name: "curator", role: "curator", good: true},
	{name: "owner", role: "owner", good: true},
	{name: "auditor", registry: "reader", good: true},
	{name: "registry admin", registry: "admin", good: true},
	{name: "owner by a token to pull", role: "owner", scope: "pull", good: true},
	{name: "owner by a token to push", role: "owner", scope: "push", good: true},
	{name: "owner by a token to delete", role: "owner", scope: "delete", good: true},
	{name: "owner by a token to manage", role: "owner", scope: "manage", good: true},
	{name: "owner by a token that was revoked", role: "owner", scope: "pull"},
	{name: "owner by a token for elsewhere", role: "owner", elsewhere: true, good: true},
	{name: "auditor by a token for elsewhere", registry: "reader", elsewhere: true, good: true},
	{name: "writer of the registry by a token for elsewhere", registry: "writer", elsewhere: true, good: true},
	{name: "curator of the registry by a token for elsewhere", registry: "curator", elsewhere: true, good: true},
	{name: "owner of the registry by a token for elsewhere", registry: "owner", elsewhere: true, good: true},
	{name: "registry admin by a token for elsewhere", registry: "admin", elsewhere: true, good: true},
	// By a token that may all: the tries of a password are slowed after some.
	{name: "disabled owner", role: "owner", scope: "pull,push,delete,manage"},
}

// shown tells whether the documents have a column for a caller: what a token is worth
// elsewhere is what no role at all is worth.
func (c rightsCaller) shown() bool { return c.good && !c.elsewhere }

var ranks = []string{"", "reader", "writer", "curator", "owner", "admin"}

// has reports whether a caller has what a route takes, in an open or a closed namespace.
func (c rightsCaller) has(n need, open bool) bool {
	if c.elsewhere {
		// It is worth here what that of an account without any role is.
		return rightsCaller{name: c.name, scope: "elsewhere"}.has(n, open)
	}
	rank := max(slices.Index(ranks, c.role), slices.Index(ranks, c.registry))
	scoped := func(action string) bool { return c.scope == "" || c.scope == action }
	switch n {
	case nothingAtAll:
		return true
	case aLogin:
		return c.name != "nobody"
	case toCheck:
		return c.has(toPull, open) || c.has(toPush, open)
	case toPull:
		return open || rank >= 1 && scoped("pull")
	case toPush:
		return rank >= 2 && scoped("push")
	case toDelete:
		return rank >= 3 && scoped("delete")
	case toPushAndDelete:
		return rank >= 3 && scoped("push") && scoped("delete")
	case toManage:
		return rank >= 4 && scoped("manage")
	case toBeMember:
		return rank >= 1
	case toSeeAccounts:
		return (c.registry != "" || c.role == "owner") && c.scope == "" || c.scope == "manage"
	case toReadAudit:
		return c.registry != ""
	case toSeeUsage:
		return c.registry != "" || c.has(toPush, open)
	case toSeePulls:
		return c.registry != "" || c.has(toPush, open) && c.has(toManage, open)
	case toBeAdmin:
		return c.registry == "admin"
	case aWholeLogin:
		return c.name != "nobody" && c.scope == ""
	}
	return false
}

// status is what a caller must be answered.
func (c rightsCaller) status(r rightsRoute, open bool) int {
	switch {
	case !c.good:
		return http.StatusUnauthorized
	case c.has(r.need, open):
		return r.done
	case c.name == "nobody":
		return http.StatusUnauthorized
	}
	known := c.has(toPull, open)
	switch r.need {
	case toBeMember:
		return http.StatusNotFound
	case toCheck, toPull, toPush, toDelete, toPushAndDelete, toManage, toSeeUsage, toSeePulls:
		if !known && r.unknown != 0 {
			return r.unknown
		}
		if !known || r.need <= toPull && r.door == managementDoor {
			return http.StatusNotFound
		}
	}
	return http.StatusForbidden
}

// rightsWorld is a service with two namespaces, one open and one closed, and one of
// each caller.
type rightsWorld struct {
	t        *testing.T
	s        *kit.Service
	config   oci.Digest
	manifest oci.Digest
	raw      string
	number   int
	// authorization is by caller.
	authorization map[string]string
}

func newRightsWorld(t *testing.T) *rightsWorld {
	w := &rightsWorld{t: t, s: kit.Start(t, t.TempDir()), authorization: map[string]string{"nobody": ""}}
	w.must("POST", "/api/v1/accounts", `{"name":"bystander"}`, nil)
	for _, namespace := range []string{"open", "closed"} {
		w.must("POST", "/api/v1/namespaces", fmt.Sprintf(`{"name":%q,"open":%t}`, namespace, namespace == "open"), nil)
		w.config = kit.PutBlob(t, w.s, namespace+"/app", []byte("{}"))
		w.raw = w.fresh()
		w.manifest = w.put(namespace+"/app", "kept", w.raw)
	}
	w.put("open/app", "kept", w.raw)
	for _, c := range rightsCallers {
		w.add(c)
	}
	return w
}

// fresh returns a manifest that was not there before.
func (w *rightsWorld) fresh() string {
	w.number++
	m := kit.Artifact(w.config, nil, "application/x.rights", w.number)
	raw, err := json.Marshal(m)
	require.NoError(w.t, err)
	return string(raw)
}

func (w *rightsWorld) put(repository, tag, raw string) oci.Digest {
	answer, body := w.s.Do(http.MethodPut, "/v2/"+repository+"/manifests/"+tag, strings.NewReader(raw), "Content-Type", oci.MediaTypeImage)
	require.Equal(w.t, http.StatusCreated, answer.StatusCode, "%s", body)
	return oci.DigestOf(oci.SHA256, []byte(raw))
}

// must sends a request of the admin to the management API.
func (w *rightsWorld) must(method, path, body string, into any) {
	answer, raw := w.s.Do(method, path, strings.NewReader(body), "Content-Type", "application/json")
	require.Less(w.t, answer.StatusCode, 300, "%s %s: %s", method, path, raw)
	if into != nil {
		require.NoError(w.t, json.Unmarshal(raw, into))
	}
}

// add makes the account of a caller, with its roles and its token.
func (w *rightsWorld) add(c rightsCaller) {
	if c.name == "nobody" {
		return
	}
	account := strings.ReplaceAll(c.name, " ", "-")
	w.must("POST", "/api/v1/accounts", fmt.Sprintf(`{"name":%q,"password":%q,"admin":%t}`, account, kit.MemberPassword, c.registry == "admin"), nil)
	if c.registry != "" && c.registry != "admin" {
		w.must("PUT", "/api/v1/roles", fmt.Sprintf(`{"place":"","account":%q,"role":%q}`, account, c.registry), nil)
	}
	if c.role != "" {
		for _, place := range []string{"open", "closed"} {
			w.must("PUT", "/api/v1/roles", fmt.Sprintf(`{"place":%q,"account":%q,"role":%q}`, place, account, c.role), nil)
		}
	}
	secret := kit.MemberPassword
	scope, pattern := c.scope, "*"
	if c.elsewhere {
		scope, pattern = "pull,push,delete,manage", "elsewhere/*"
	}
	if scope != "" {
		var made struct{ Secret string }
		actions, err := json.Marshal(strings.Split(scope, ","))
		require.NoError(w.t, err)
		w.must("POST", "/api/v1/tokens", fmt.Sprintf(`{"account":%q,"name":"t","days":1,"scopes":[{"pattern":%q,"actions":%s}]}`, account, pattern, actions), &made)
		secret = made.Secret
	}
	switch {
	case c.good:
	case strings.Contains(c.name, "revoked"):
		w.must("DELETE", "/api/v1/tokens/t?account="+account, "", nil)
	default:
		w.must("PATCH", "/api/v1/accounts/"+account, `{"disabled":true}`, nil)
	}
	request := http.Request{Header: http.Header{}}
	request.SetBasicAuth(account, secret)
	w.authorization[c.name] = request.Header.Get("Authorization")
}

// ask sends a request with an Authorization and returns status and body.
func (w *rightsWorld) ask(r rightsRoute, authorization, repository string) (int, string) {
	at, body := r.path(w, repository), ""
	if r.body != nil {
		body = r.body(w, repository)
	}
	kind := "application/json"
	if r.method == http.MethodPut && r.door == protocolDoor {
		kind = oci.MediaTypeImage
	}
	answer, raw := w.s.Do(r.method, at, strings.NewReader(body), "Authorization", authorization, "Content-Type", kind)
	return answer.StatusCode, string(raw)
}

// bearer gets a token for all that one may do with a repository, or returns none
// where the credential is not good.
func (w *rightsWorld) bearer(authorization, repository string) string {
	query := url.Values{"scope": {"repository:" + repository + ":pull,push,delete", "registry:catalog:*"}}
	answer, raw := w.s.Do(http.MethodGet, "/api/token?"+query.Encode(), nil, "Authorization", authorization)
	if answer.StatusCode != http.StatusOK {
		return ""
	}
	var given struct{ Token string }
	require.NoError(w.t, json.Unmarshal(raw, &given))
	return "Bearer " + given.Token
}

func TestEveryRouteAsksForItsRight(t *testing.T) {
	t.Parallel()
	w := newRightsWorld(t)
	for _, r := range rightsRoutes {
		for _, c := range rightsCallers {
			for _, namespace := range []string{"open", "closed"} {
				repository, expected := namespace+"/app", c.status(r, namespace == "open")
				says := fmt.Sprintf("%s: %s in a namespace that is %s", c.name, r.says, namespace)
				status, body := w.ask(r, w.authorization[c.name], repository)
				assert.Equal(t, expected, status, "%s: %s", says, body)
				if r.door == managementDoor {
					continue
				}
				token := w.bearer(w.authorization[c.name], repository)
				if token == "" {
					assert.False(t, c.good && c.name != "nobody", "%s gets no token", c.name)
					continue
				}
				if r.says == "ask for the version" || r.says == "ask for extensions" {
					expected = http.StatusOK
				}
				status, body = w.ask(r, token, repository)
				assert.Equal(t, expected, status, "%s, by a bearer token: %s", says, body)
			}
		}
	}
}

// What somebody may not know of is answered as what is not there.
func TestNobodyLearnsOfARepositoryThatIsNotTheirs(t *testing.T) {
	t.Parallel()
	w := newRightsWorld(t)
	foreign := w.authorization["foreign account"]
	for _, r := range rightsRoutes {
		if r.need < toCheck || r.need > toManage || r.prepared || strings.HasPrefix(r.says, "remove") || strings.HasPrefix(r.says, "make") || strings.HasPrefix(r.says, "delete") {
			continue
		}
		there, answer := w.ask(r, foreign, "closed/app")
		for _, other := range []string{"closed/nothing", "nowhere/nothing"} {
			status, body := w.ask(r, foreign, other)
			assert.Equal(t, there, status, "%s: %s against closed/app", r.says, other)
			like := strings.ReplaceAll(body, other, "closed/app")
			like = strings.ReplaceAll(like, " "+oci.Name(other).Namespace(), " closed")
			assert.Equal(t, answer, like, "%s: %s", r.says, other)
		}
	}
	answer, raw := w.s.Do(http.MethodGet, "/v2/_catalog", nil, "Authorization", foreign)
	require.Equal(t, http.StatusOK, answer.StatusCode)
	assert.NotContains(t, string(raw), "closed/app")
	assert.Contains(t, string(raw), "open/app")
	hidden := w.remove("closed/app")
	for _, act := range []struct{ method, path string }{{http.MethodGet, ""}, {http.MethodPost, "/undo"}} {
		ask := func(id int64) string {
			answer, raw := w.s.Do(act.method, fmt.Sprintf("/api/v1/removals/%d%s", id, act.path), strings.NewReader("{}"), "Authorization", foreign, "Content-Type", "application/json")
			return fmt.Sprint(answer.StatusCode, strings.ReplaceAll(string(raw), fmt.Sprint(id), "N"))
		}
		assert.Equal(t, ask(999_999), ask(hidden), "a removal in a hidden repository, and none")
	}
	for _, list := range []string{"/api/v1/repositories", "/api/v1/namespaces", "/api/v1/find?q=" + w.manifest.Encoded(), "/api/v1/find?q=app"} {
		_, raw = w.s.Do(http.MethodGet, list, nil, "Authorization", foreign)
		assert.NotContains(t, string(raw), "closed", list)
	}
	// How many rules others have is told to who pushes there, and their words to neither.
	w.must("PUT", "/api/v1/rules", `{"words":"- seal: \"*:unrelated\"","reason":"x"}`, nil)
	for as, hidden := range map[string]int{"foreign account": 0, "writer": 1} {
		_, raw := w.s.Do(http.MethodGet, "/api/v1/rules/explain?repository=open/app&tag=kept", nil, "Authorization", w.authorization[as])
		var e api.RuleExplanation
		require.NoError(t, json.Unmarshal(raw, &e), "%s", raw)
		assert.Equal(t, hidden, e.Hidden, as)
		assert.NotContains(t, string(raw), "unrelated", as)
	}
}

// How much becomes free tells an owner of nothing that lies in repositories that are hidden.
func TestWhatBecomesFreeTellsNothingOfHiddenHolders(t *testing.T) {
	t.Parallel()
	w := newRightsWorld(t)
	w.must("POST", "/api/v1/namespaces", `{"name":"mine"}`, nil)
	w.must("PUT", "/api/v1/roles", `{"place":"mine","account":"foreign-account","role":"owner"}`, nil)
	image := kit.Artifact(kit.PutBlob(t, w.s, "mine/app", []byte(`{"guessed":true}`)), nil, "application/x.guess", 1)
	image.Config.Size = int64(len(`{"guessed":true}`))
	guess := kit.PutManifest(t, w.s, "mine/app", "guess", oci.MediaTypeImage, image)
	freed := func(as, query string) int64 {
		answer, raw := w.s.Do(http.MethodGet, "/api/v1/removal-plan?"+query, nil, "Authorization", w.authorization[as])
		require.Equal(t, http.StatusOK, answer.StatusCode, "%s", raw)
		var plan api.RemovalPlan
		require.NoError(t, json.Unmarshal(raw, &plan))
		return plan.Freed
	}
	queries := []string{"repository=mine/app&reference=guess", "repository=mine/app", "namespace=mine"}
	before := map[string]int64{}
	for _, query := range queries {
		before[query] = freed("foreign account", query)
		assert.Equal(t, guess.Size+int64(len(`{"guessed":true}`)), before[query], query)
	}
	kit.PutBlob(t, w.s, "closed/app", []byte(`{"guessed":true}`))
	kit.PutManifest(t, w.s, "closed/app", "same", oci.MediaTypeImage, image)
	for _, query := range queries {
		assert.Equal(t, before[query], freed("foreign account", query), query)
		assert.Zero(t, freed("registry admin", query), "who sees everything is told of all: %s", query)
	}
}

// A blob is mounted from where its caller may pull, and from nowhere else.
func TestMountingLeaksNothing(t *testing.T) {
	t.Parallel()
	w := newRightsWorld(t)
	secret := kit.PutBlob(t, w.s, "closed/app", []byte("what only members know"))
	w.must("POST", "/api/v1/namespaces", `{"name":"mine"}`, nil)
	w.must("PUT", "/api/v1/roles", `{"place":"mine","account":"foreign-account","role":"writer"}`, nil)
	foreign, member := w.authorization["foreign account"], w.authorization["registry admin"]
	mount := func(authorization, from string, digest oci.Digest) int {
		at := "/v2/mine/app/blobs/uploads/?mount=" + digest.String()
		if from != "" {
			at += "&from=" + from
		}
		answer, _ := w.s.Do(http.MethodPost, at, nil, "Authorization", authorization)
		return answer.StatusCode
	}
	for _, from := range []string{"", "closed/app", "closed/nothing"} {
		assert.Equal(t, http.StatusAccepted, mount(foreign, from, secret), "from %q", from)
	}
	assert.Equal(t, http.StatusCreated, mount(foreign, "open/app", w.config))
	// A bearer token for the target alone is sent for the source as well, whether or
	// not there is one; asked for it in vain, the blob is pushed.
	narrow := w.bearer(foreign, "mine/app")
	for _, from := range []string{"open/app", "closed/app", "nowhere/nothing"} {
		answer, _ := w.s.Do(http.MethodPost, "/v2/mine/app/blobs/uploads/?mount="+secret.String()+"&from="+from, nil, "Authorization", narrow)
		require.Equal(t, http.StatusUnauthorized, answer.StatusCode)
		challenge := answer.Header.Get("WWW-Authenticate")
		assert.Contains(t, challenge, `scope="repository:mine/app:pull,push repository:`+from+`:pull"`)
		query := url.Values{"scope": {"repository:mine/app:pull,push", "repository:" + from + ":pull"}}
		answer, raw := w.s.Do(http.MethodGet, "/api/token?"+query.Encode(), nil, "Authorization", foreign)
		require.Equal(t, http.StatusOK, answer.StatusCode)
		var given struct{ Token string }
		require.NoError(t, json.Unmarshal(raw, &given))
		assert.Equal(t, http.StatusAccepted, mount("Bearer "+given.Token, from, secret), from)
	}
	assert.Equal(t, http.StatusCreated, mount(member, "", secret))
}

// The documents show the table as the test has it.
func TestTheDocumentsShowTheTable(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	for _, namespace := range []string{"closed", "open"} {
		fmt.Fprintf(&b, "\n## In a namespace that is %s\n\n| | %s |\n|---|%s\n", namespace, strings.Join(callerNames(), " | "), strings.Repeat("---|", len(callerNames())))
		for _, r := range rightsRoutes {
			fmt.Fprintf(&b, "| %s |", r.says)
			for _, c := range rightsCallers {
				if c.shown() {
					fmt.Fprintf(&b, " %s |", shown(c, r, namespace == "open"))
				}
			}
			b.WriteString("\n")
		}
	}
	file := filepath.Join("..", "docs", "rights.md")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	const mark = "<!-- the table -->\n"
	before, table, found := strings.Cut(string(raw), mark)
	require.True(t, found)
	if os.Getenv("WRITE_DOCUMENTS") != "" {
		require.NoError(t, os.WriteFile(file, []byte(before+mark+b.String()), 0o644))
		return
	}
	assert.Equal(t, b.String(), table, "docs/rights.md is behind; WRITE_DOCUMENTS=1 writes it")
}

func callerNames() []string {
	var names []string
	for _, c := range rightsCallers {
		if c.shown() {
			names = append(names, c.name)
		}
	}
	return names
}

// shown is a status in the table: what may be done, or how it is refused.
func shown(c rightsCaller, r rightsRoute, open bool) string {
	switch status := c.status(r, open); {
	case c.has(r.need, open):
		return "yes"
	case status == r.unknown && status == http.StatusOK:
		return "empty"
	default:
		return fmt.Sprint(status)
	}
}

// remove removes a fresh tag, and returns the removal.
func (w *rightsWorld) remove(repository string) int64 {
	w.number++
	tag := fmt.Sprint("gone", w.number)
	w.put(repository, tag, w.raw)
	var done struct{ Removal int64 }
	w.must(http.MethodPost, "/api/v1/tags?repository="+repository, fmt.Sprintf(`{"changes":[{"act":"remove","tag":%q}]}`, tag), &done)
	return done.Removal
}

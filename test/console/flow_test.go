package console

import (
	"testing"

	"github.com/stretchr/testify/require"

	"warthesis/internal/browser"
	"warthesis/internal/kit"
)

// A peer is made with its test as steps, followed, and looked into, on the page that draws
// what goes where.
func TestTheFlowPageMakesAPeerAndLetsANamespaceFollowIt(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, sampleWorld(t), "--inside-networks", "127.0.0.0/8")
	partner := kit.StartForeign(t, nil)
	image := kit.NewImage(t, kit.Bytes(1, 3000))
	partner.Put("tickets/printer", "1.0", image)
	page := openBrowser(t, s)
	require.NoError(t, page.Go(s.URL("/flow")))
	says(t, page, "This registry talks to no other one")
	press(t, page, "Make a peer")
	says(t, page, "Only test it")
	typeInto(t, page, "Name", "partner")
	typeInto(t, page, "Address", partner.Address)
	typeInto(t, page, "Prefix", "tickets")
	typeInto(t, page, "Repository to look at", "printer")
	inDialog(t, page, "button", "Test it and keep it")
	says(t, page, "It is not kept: the test stopped at the step TLS")
	inDialog(t, page, "label", "Speak plain HTTP")
	inDialog(t, page, "button", "Test it and keep it")
	says(t, page, "without a login")
	noDialog(t, page)
	press(t, page, "Let a namespace follow")
	says(t, page, "what it followed before is replaced")
	typeInto(t, page, "Namespace", "outside")
	inDialog(t, page, "button", "Set it")
	says(t, page, "what is asked for")
	require.NoError(t, page.WaitFor(`[aria-label*="outside from it, follows it"]`))
	pulled := t.TempDir() + "/pulled"
	kit.Must(t, "pull", s.Address+"/outside/printer:1.0", pulled)
	kit.SameFiles(t, image, pulled)

	require.NoError(t, page.Go(s.URL("/peer/partner?repository=printer&tag=1.0")))
	says(t, page, "namespace outside follows it")
	says(t, page, "An image there")
	require.NoError(t, page.WaitFor(`[aria-label="Platforms"] tbody tr`))
}

// A rule is made on the page, shows what it copies and what is in conflict, and is compared.
func TestARuleIsMadeOnTheFlowPageAndItsConflictsAreSettled(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, sampleWorld(t), "--inside-networks", "127.0.0.0/8")
	partner := kit.StartForeign(t, nil)
	partner.Put("signals/relay", "4.2.0", kit.NewImage(t, kit.Bytes(1, 3000)))
	kit.Must(t, "peer", "make", s.Address, "partner", partner.Address, "--plain-http", "--repository", "signals/relay")
	page := openBrowser(t, s)
	require.NoError(t, page.Go(s.URL("/flow")))
	says(t, page, "None. A rule copies")
	press(t, page, "Make a rule")
	says(t, page, "patterns of what is not copied")
	typeInto(t, page, "Name", "boxes")
	typeInto(t, page, "Copies", "signals/*:<version>")
	inDialog(t, page, "button", "Make it")
	says(t, page, "signals/*:<version> to partner")
	says(t, page, "both sides moved a tag")
	require.NoError(t, page.Go(s.URL("/replication/boxes")))
	says(t, page, "signals/relay:4.2.0")
	require.NoError(t, page.WaitFor(`main button[aria-label^="Overwrite it"]`))
	press(t, page, "Overwrite it")
	says(t, page, "It gets what this registry has.")
	inDialog(t, page, "button", "Overwrite it")
	says(t, page, "both sides have the same")
	noDialog(t, page)
	press(t, page, "Compare both sides")
	says(t, page, "0 missing, 0 different, 0 extra")
}

// noDialog waits until a dialog is closed whole: on its way it takes what is typed.
func noDialog(t *testing.T, page *browser.Page) {
	t.Helper()
	require.NoError(t, page.Wait(`document.querySelector('[role=dialog]') === null`))
}

// inDialog clicks what begins with a text in the dialog that is open.
func inDialog(t *testing.T, page *browser.Page, kind, text string) {
	t.Helper()
	require.NoError(t, page.Wait(`(() => {
		const found = [...document.querySelectorAll('[role=dialog] '+`+quoted(kind)+`)].find(e => e.innerText.startsWith(`+quoted(text)+`) && !e.disabled)
		found?.click()
		return found !== undefined
	})()`))
}

// The import form shows what is there before it is brought in, and its page what came of it.
func TestAnImportIsMadeOnTheFlowPage(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, sampleWorld(t), "--inside-networks", "127.0.0.0/8")
	partner := kit.StartForeign(t, nil)
	image := kit.NewImage(t, kit.Bytes(1, 3000))
	partner.Put("tickets/printer", "1.0.0", image)
	partner.Put("tickets/printer", "1.1.0", kit.NewImage(t, kit.Bytes(2, 3000)))
	kit.Must(t, "peer", "make", s.Address, "partner", partner.Address, "--plain-http", "--repository", "tickets/printer")
	page := openBrowser(t, s)
	require.NoError(t, page.Go(s.URL("/flow")))
	says(t, page, "Nothing yet. Copies of packing lists")
	press(t, page, "Bring something in")
	says(t, page, "Look at it first")
	typeInto(t, page, "Repository there", "tickets/printer")
	typeInto(t, page, "Called here", "outside/printer")
	inDialog(t, page, "button", "Look at it first")
	says(t, page, "2 tags: 1.1.0, 1.0.0")
	inDialog(t, page, "button", "Bring it in")
	noDialog(t, page)
	says(t, page, "both sides are equal by digest")
	pulled := t.TempDir() + "/pulled"
	kit.Must(t, "pull", s.Address+"/outside/printer:1.0.0", pulled)
	kit.SameFiles(t, image, pulled)
	require.NoError(t, page.Go(s.URL("/import/partner-tickets-printer")))
	says(t, page, "Both sides are equal by digest: 2 tags in 1 repositories")
	require.NoError(t, page.Go(s.URL("/carried/1")))
	says(t, page, "2 of 2 images")
}

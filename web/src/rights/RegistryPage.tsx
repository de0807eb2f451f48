import { Box, Button, Checkbox, FormControlLabel, Typography } from '@mui/material'
import { useState } from 'react'
import { type IdentityRule, useIdentityRules, useMakeIdentityRule, useRemoveIdentityRule, useRotateKeys } from '../api/identity'
import { useChangeSettings, useSettings } from '../api/service'
import { useMe } from '../api/session'
import { Members } from '../names/Members'
import { Ask, DialogButton, Field, Said, Section } from '../parts/Forms'
import { Page } from '../parts/Page'
import { PlainTable } from '../parts/PlainTable'
import { Trouble, Waiting } from '../parts/States'
import { AccessTabs } from './AccessTabs'

// RegistryPage has what is true of the whole registry: who has roles everywhere, what it
// lets people do, which builds log in by an identity, and its keys.
export function RegistryPage() {
  const admin = useMe().data?.admin ?? false
  return (
    <Page title="The registry" over={<AccessTabs />}>
      <Members place="" owns={admin} />
      <Namespaces admin={admin} />
      {admin && <Identities />}
      {admin && <Keys />}
    </Page>
  )
}

function Namespaces({ admin }: { admin: boolean }) {
  const settings = useSettings()
  const change = useChangeSettings()
  if (settings.isPending) return <Waiting />
  if (settings.error) return <Trouble asked="Reading the settings" error={settings.error} />
  const now = settings.data
  const set = (to: Partial<typeof now>) => change.mutate({ ...now, ...to })
  return (
    <Section title="Who makes namespaces, and for how long removals can be undone">
      <Box sx={{ display: 'grid' }}>
        <FormControlLabel
          label="Every person may make namespaces, and then owns them; not registry admins alone"
          control={<Checkbox size="small" checked={now.accounts_make_namespaces} disabled={!admin || change.isPending} onChange={(e) => set({ accounts_make_namespaces: e.target.checked })} />}
        />
        <FormControlLabel
          label="A push by somebody who may make a namespace makes the one that it needs"
          control={<Checkbox size="small" checked={now.push_makes_namespaces} disabled={!admin || change.isPending} onChange={(e) => set({ push_makes_namespaces: e.target.checked })} />}
        />
      </Box>
      <Window key={now.restore_window} now={now.restore_window ?? ''} admin={admin} busy={change.isPending} onSave={(restore_window) => set({ restore_window })} />
      {!admin && <Typography variant="body2" color="textSecondary">Changing this takes a registry admin.</Typography>}
      <Said error={change.error} />
    </Section>
  )
}

// Window is for how long what was removed can come back.
function Window({ now, admin, busy, onSave }: { now: string; admin: boolean; busy: boolean; onSave: (to: string) => void }) {
  const [window, setWindow] = useState(now)
  return (
    <Box
      component="form" sx={{ display: 'flex', gap: 2, alignItems: 'start', mt: 1.5 }}
      onSubmit={(e) => {
        e.preventDefault()
        onSave(window)
      }}
    >
      <Field label="Removals can be undone for" value={window} onChange={setWindow} hint="as in 14d or 12h; namespaces may have less" width={260} />
      {admin && <Button type="submit" variant="outlined" size="small" disabled={busy || window === now} sx={{ mt: 0.5 }}>Save</Button>}
    </Box>
  )
}

function Identities() {
  const rules = useIdentityRules()
  const remove = useRemoveIdentityRule()
  const columns = [
    { title: 'Rule', width: 120, cell: (r: IdentityRule) => r.name },
    { title: 'Issuer', cell: (r: IdentityRule) => r.issuer },
    { title: 'For', width: 110, cell: (r: IdentityRule) => r.audience },
    { title: 'Subject', cell: (r: IdentityRule) => r.subject },
    { title: 'Is the account', width: 130, cell: (r: IdentityRule) => r.account },
    {
      title: 'Do', width: 90,
      cell: (r: IdentityRule) => (
        <Ask
          name="Remove" label={`Remove the identity rule ${r.name}`} question={`Remove the identity rule ${r.name}?`} action="Remove it" busy={remove.isPending} error={remove.error}
          consequence={`Builds no longer log in as ${r.account} by it, and what they got by it stops at the next request. The rule can be made again.`}
          onDo={(done) => remove.mutate(r.name, { onSuccess: done })}
        />
      ),
    },
  ]
  return (
    <Section title="Identity rules" beside={<MakeIdentity />}>
      {rules.isPending && <Waiting />}
      {rules.error && <Trouble asked="Listing the identity rules" error={rules.error} />}
      {rules.data?.rules.length === 0 && <Typography color="textSecondary">None. By one, builds log in by an identity that their own issuer signs, and no secret is stored with them.</Typography>}
      {rules.data && rules.data.rules.length > 0 && <PlainTable label="Identity rules" columns={columns} rows={rules.data.rules} rowKey={(r) => r.name} />}
    </Section>
  )
}

const none: IdentityRule = { name: '', issuer: '', audience: '', subject: '', account: '' }

function MakeIdentity() {
  const [rule, setRule] = useState(none)
  const make = useMakeIdentityRule()
  const field = (name: keyof IdentityRule) => ({ value: rule[name] ?? '', onChange: (to: string) => setRule((old) => ({ ...old, [name]: to })) })
  return (
    <DialogButton
      name="Make an identity rule" title="Make an identity rule" action="Make it" busy={make.isPending} error={make.error}
      ready={[rule.name, rule.issuer, rule.audience, rule.subject, rule.account].every((v) => v !== '')}
      onDo={(close) => make.mutate(rule, { onSuccess: () => { close(); setRule(none) } })}
    >
      <Field label="Name" {...field('name')} autoFocus />
      <Field label="Issuer" {...field('issuer')} hint="Its address, https://builds.example; it is asked now whether it is one" />
      <Field label="Audience" {...field('audience')} hint="For whom the identities are made out" />
      <Field label="Subject" {...field('subject')} hint="A pattern, where * is any text: project:berths/seatmap:*" />
      <Field label="Machine account" {...field('account')} hint="Who comes with such an identity is this account" />
    </DialogButton>
  )
}

function Keys() {
  const rotate = useRotateKeys()
  return (
    <Section title="Keys">
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2 }}>
        <Typography sx={{ flex: 1 }}>
          Short-lived tokens are signed by a key that the registry changes by itself. {rotate.isSuccess && <span role="status">New ones are signed by a new key now.</span>}
        </Typography>
        <Ask
          name="Rotate the key" action="Rotate it" question="Sign new short-lived tokens by a new key?" busy={rotate.isPending} error={rotate.error}
          consequence="Those that are out stay good until they end, minutes from now. Logins and tokens are not touched."
          onDo={(done) => rotate.mutate(undefined, { onSuccess: done })}
        />
      </Box>
    </Section>
  )
}

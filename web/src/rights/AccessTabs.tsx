import { Tab, Tabs } from '@mui/material'
import { Link as Route, useLocation } from 'react-router'
import { useMe } from '../api/session'

// AccessTabs lead between the places about who may do what.
export function AccessTabs() {
  const { pathname } = useLocation()
  const me = useMe()
  return (
    <Tabs value={pathname} aria-label="Access" sx={{ mb: 1 }}>
      <Tab component={Route} to="/access" value="/access" label="Namespaces" />
      {me.data?.lists_accounts && <Tab component={Route} to="/access/accounts" value="/access/accounts" label="Accounts" />}
      {me.data?.lists_accounts && <Tab component={Route} to="/access/groups" value="/access/groups" label="Groups" />}
      {me.data?.lists_accounts && <Tab component={Route} to="/access/registry" value="/access/registry" label="Registry" />}
    </Tabs>
  )
}

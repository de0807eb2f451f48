import type { ReactNode } from 'react'
import { seesAll, useMe } from '../api/session'
import { Page } from './Page'
import { Empty } from './States'

// OfRegistry shows a page about the whole registry to those who may see it. All others are
// told what that takes, and nothing is asked that would be refused.
export function OfRegistry({ title, children }: { title: string; children: ReactNode }) {
  const me = useMe()
  if (seesAll(me.data)) return children
  return (
    <Page title={title}>
      <Empty>This page is about the whole registry. To see it you need a role on the registry; an admin gives it to you.</Empty>
    </Page>
  )
}

import { flow } from '../flow/area'
import { image } from '../image/area'
import { names } from '../names/area'
import { audit, rights } from '../rights/area'
import { service } from '../service/area'
import { removed, rules, storage } from '../upkeep/area'
import type { Area } from './area'

// The areas of the console. A new page is an entry of its area; only a new area stands here.
export const areas: Area[] = [image, names, rights, audit, rules, removed, storage, flow, service]

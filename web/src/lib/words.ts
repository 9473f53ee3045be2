import type { Schema } from './api'

export type Standing = Schema['Row']['standing']
export const standings: Standing[] = ['set', 'due', 'shifted', 'stray', 'unread']

export function counted(n: number, one: string, many = one + 's'): string {
  return `${n} ${n === 1 ? one : many}`
}

type Place = { sort?: string }

/** place is what each of some places is called: a host where all are. */
export function place(list: Place[]): string {
  return list.some((p) => p.sort) ? 'place' : 'host'
}

/** places counts some of them. */
export function places(list: Place[]): string {
  return counted(list.length, place(list))
}

/** unread is which places, and how many stakes of others, could not be read. */
export function unread(silent: Place[], stakes: number): string {
  if (stakes === 0) return places(silent)
  if (silent.length === 0) return counted(stakes, 'stake')
  return `${places(silent)} and ${counted(stakes, 'stake')} of others`
}

export function bytes(n: number): string {
  const units = ['B', 'KB', 'MB', 'GB', 'TB']
  let i = 0
  while (n >= 1000 && i < units.length - 1) {
    n /= 1000
    i++
  }
  return `${i === 0 || n >= 10 ? Math.round(n) : n.toFixed(1)} ${units[i]}`
}

/** millis writes nanoseconds. */
export function millis(ns: number): string {
  return ns < 1e6 ? '< 1 ms' : `${Math.round(ns / 1e6)} ms`
}

export function ago(when?: string): string {
  if (!when) return 'never'
  const s = (Date.now() - Date.parse(when)) / 1000
  if (s < 90) return `${Math.max(0, Math.round(s))} s ago`
  if (s < 5400) return `${Math.round(s / 60)} min ago`
  if (s < 129600) return `${Math.round(s / 3600)} h ago`
  return when.slice(0, 16).replace('T', ' ') + ' UTC'
}

/** purpose says what a plan is for, where that is not all that is declared. */
export function purpose(only: string): string {
  if (only === 'shifted') return 'only what had shifted'
  return only === 'one-off' ? 'one thing besides what is declared' : `to ${only}`
}

/** What each standing means, for people who meet the word for the first time. */
export const meaning: Record<Standing, string> = {
  set: 'as declared',
  due: 'declared, not yet applied',
  shifted: 'was applied, now differs',
  stray: 'there, and nobody declared it',
  unread: 'could not be read',
}

export const hostState: Record<string, string> = {
  waiting: 'waiting',
  running: 'under way',
  done: 'done',
  unmet: 'done, and still not as declared',
  partly: 'done but for what is blocked',
  nothing: 'nothing to do',
  blocked: 'blocked, left as it was',
  moved: 'changed since the plan, left as it was',
  failed: 'failed',
  back: 'taken back to what it was',
  interrupted: 'cut off; can be resumed',
  cancelled: 'cancelled, and left as it was before',
}

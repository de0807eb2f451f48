// Labels as people write them: name=value, one a line.

export const labelText = (labels: Record<string, string>) => Object.entries(labels).map(([k, v]) => `${k}=${v}`).join('\n')

export function readLabels(text: string): Record<string, string> {
  const pairs = text.split('\n').filter((l) => l.includes('=')).map((l) => [l.slice(0, l.indexOf('=')).trim(), l.slice(l.indexOf('=') + 1).trim()])
  return Object.fromEntries(pairs) as Record<string, string>
}

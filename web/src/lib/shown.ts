/** hidden are characters that are not seen where they stand: control characters but for line ends and
 *  tabs, and those that turn the direction of writing or have no width. */
const hidden =
  /[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u061c\u200b\u200e\u200f\u2028-\u202e\u2060\u2066-\u2069\ufeff\ufff9-\ufffb]|[\u{e0000}-\u{e007f}]/gu

/** shown is what came from the service with hidden characters written out, as \u202e: what a host has
 *  called its files is shown, and does nothing. */
export function shown<T>(value: T): T {
  if (typeof value === 'string') {
    return value.replace(hidden, (c) => [...c].map((one) => '\\u' + one.codePointAt(0)!.toString(16).padStart(4, '0')).join('')) as T
  }
  if (Array.isArray(value)) return value.map(shown) as T
  if (value && typeof value === 'object') return Object.fromEntries(Object.entries(value).map(([k, v]) => [shown(k), shown(v)])) as T
  return value
}

// The part of CBOR (RFC 8949) that the calls for many fragments are made of. A call's body
// is a sequence of data items (RFC 8742).

const encoder = new TextEncoder()
const decoder = new TextDecoder('utf-8', { fatal: true })

/** Encodes values one behind the other: objects, arrays, strings, numbers, booleans, bytes. */
export function encode(...values) {
  const pieces = []
  let size = 0
  const push = (bytes) => {
    pieces.push(bytes)
    size += bytes.length
  }
  const head = (major, n) => {
    if (n < 24) push(Uint8Array.of(major | n))
    else if (n < 0x100) push(Uint8Array.of(major | 24, n))
    else if (n < 0x10000) push(Uint8Array.of(major | 25, n >> 8, n & 255))
    else if (n < 0x100000000) {
      const b = new Uint8Array(5)
      b[0] = major | 26
      new DataView(b.buffer).setUint32(1, n)
      push(b)
    } else {
      const b = new Uint8Array(9)
      b[0] = major | 27
      new DataView(b.buffer).setBigUint64(1, BigInt(n))
      push(b)
    }
  }
  const write = (v) => {
    if (typeof v === 'string') {
      const bytes = encoder.encode(v)
      head(0x60, bytes.length)
      push(bytes)
    } else if (typeof v === 'number' && Number.isSafeInteger(v)) {
      if (v < 0) head(0x20, -1 - v)
      else head(0x00, v)
    } else if (typeof v === 'number') {
      const b = new Uint8Array(9)
      b[0] = 0xfb
      new DataView(b.buffer).setFloat64(1, v)
      push(b)
    } else if (typeof v === 'boolean') push(Uint8Array.of(v ? 0xf5 : 0xf4))
    else if (v instanceof Uint8Array) {
      head(0x40, v.length)
      push(v)
    } else if (Array.isArray(v)) {
      head(0x80, v.length)
      v.forEach(write)
    } else if (v && typeof v === 'object') {
      const fields = Object.entries(v).filter(([, value]) => value !== undefined)
      head(0xa0, fields.length)
      for (const [name, value] of fields) {
        write(name)
        write(value)
      }
    } else throw new TypeError(`a ${typeof v} cannot be sent`)
  }
  values.forEach(write)
  const all = new Uint8Array(size)
  let at = 0
  for (const piece of pieces) {
    all.set(piece, at)
    at += piece.length
  }
  return all
}

/** Decodes the data items in bytes. Byte strings point into them. */
export function decode(bytes) {
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength)
  let at = 0
  const need = (n) => {
    if (at + n > bytes.length) throw new RangeError('the answer ends within an item')
    at += n
    return at - n
  }
  const read = (depth) => {
    if (depth > 16) throw new RangeError('items are nested too deeply')
    const first = bytes[need(1)]
    const major = first >> 5
    let n = first & 31
    if (major === 7) {
      switch (n) {
        case 20: return false
        case 21: return true
        case 22: return null
        case 26: return view.getFloat32(need(4))
        case 27: return view.getFloat64(need(8))
      }
      throw new RangeError('a simple value that is not known')
    }
    if (n === 24) n = bytes[need(1)]
    else if (n === 25) n = view.getUint16(need(2))
    else if (n === 26) n = view.getUint32(need(4))
    else if (n === 27) n = Number(view.getBigUint64(need(8)))
    else if (n > 27) throw new RangeError('an item of indefinite length')
    switch (major) {
      case 0: return n
      case 1: return -1 - n
      case 2: return bytes.subarray(need(n), at)
      case 3: return decoder.decode(bytes.subarray(need(n), at))
      case 4: {
        const list = []
        for (; n > 0; n--) list.push(read(depth + 1))
        return list
      }
      case 5: {
        const map = {}
        for (; n > 0; n--) {
          const name = read(depth + 1)
          map[name] = read(depth + 1)
        }
        return map
      }
    }
    throw new RangeError('a tagged item')
  }
  const items = []
  while (at < bytes.length) items.push(read(0))
  return items
}

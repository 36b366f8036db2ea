package installed

import (
	"bytes"
	"encoding/binary"
)

// Before it was SQLite, rpm's database was a hash table of Berkeley DB, and some systems have one of rpm's own with pages of slots. Of both the
// headers of packages are read, and nothing that only finds them faster.

const (
	hashMagic = 0x061561 // of Berkeley DB, for a hash table
	hashHead  = 26       // bytes before what a page holds

	// Kinds of pages, and of what stands in one.
	pageOverflow = 7
	pageHash     = 13
	pageUnsorted = 2
	itemInPage   = 1
	itemOff      = 3
)

// hashDatabase reads the values of a hash table; nil: it is none.
func hashDatabase(content []byte, visit func(blob []byte) bool) {
	db := hashTable{content: content, order: binary.LittleEndian}
	if len(content) < 512 {
		return
	}
	if db.order.Uint32(content[12:]) != hashMagic {
		db.order = binary.BigEndian
	}
	if db.order.Uint32(content[12:]) != hashMagic {
		return
	}
	db.size = int(db.order.Uint32(content[20:]))
	if db.size < 512 || db.size > 64<<10 || content[24] != 0 { // encrypted
		return
	}
	left := len(content) // of overflow pages: each belongs to one value, so more cannot be there
	for n := 1; n < len(content)/db.size; n++ {
		page := db.page(uint32(n))
		if kind := page[25]; kind != pageHash && kind != pageUnsorted {
			continue
		}
		entries := int(db.order.Uint16(page[20:]))
		if hashHead+2*entries > len(page) {
			continue
		}
		end := len(page) // items lie one before the other, from the page's end on
		for i := range entries {
			begins := int(db.order.Uint16(page[hashHead+2*i:]))
			if begins < hashHead+2*entries || begins >= end {
				break
			}
			item := page[begins:end]
			end = begins
			if i%2 == 0 {
				continue // a key
			}
			var blob []byte
			switch item[0] {
			case itemInPage:
				blob = item[1:]
			case itemOff:
				if len(item) < 12 {
					continue
				}
				if blob = db.overflow(db.order.Uint32(item[4:]), int(db.order.Uint32(item[8:]))); len(blob) > left {
					return
				}
				left -= len(blob)
			default:
				continue
			}
			if !visit(blob) {
				return
			}
		}
	}
}

// hashTable is a hash table of Berkeley DB, all of it in memory.
type hashTable struct {
	content []byte
	order   binary.ByteOrder
	size    int // of a page
}

// page returns a page; nil: the table has none of this number.
func (h *hashTable) page(n uint32) []byte {
	at := int64(n) * int64(h.size)
	if at+int64(h.size) > int64(len(h.content)) {
		return nil
	}
	return h.content[at:][:h.size]
}

// overflow returns a value that has pages of its own, each of which names the next.
func (h *hashTable) overflow(first uint32, size int) (blob []byte) {
	if size > len(h.content) {
		return nil
	}
	for n := first; n != 0 && len(blob) < size; {
		page := h.page(n)
		if page == nil || page[25] != pageOverflow {
			return nil
		}
		part := page[hashHead:]
		if part = part[:min(len(part), size-len(blob))]; len(part) == 0 {
			return nil
		}
		blob = append(blob, part...)
		n = h.order.Uint32(page[16:])
	}
	if len(blob) < size {
		return nil
	}
	return blob
}

// slotDatabase reads a database of pages of slots, each of which tells where a blob is, in blocks of 16 bytes. Numbers are little-endian.
func slotDatabase(content []byte, visit func(blob []byte) bool) {
	const page, slot, head = 4096, 16, 32
	if len(content) < page || !bytes.HasPrefix(content, []byte("RpmP")) {
		return
	}
	number := func(at int64) int64 { return int64(binary.LittleEndian.Uint32(content[at:])) }
	end := number(12) * page
	left := int64(len(content))
	for at := int64(head); at+slot <= min(end, int64(len(content))); at += slot {
		blob := number(at+8) * slot
		if !bytes.HasPrefix(content[at:], []byte("Slot")) || number(at+4) == 0 || blob < page || blob+slot > int64(len(content)) || !bytes.HasPrefix(content[blob:], []byte("BlbS")) {
			continue
		}
		size := number(blob + 12)
		if number(blob+4) != number(at+4) || blob+slot+size > int64(len(content)) {
			continue
		}
		if left -= size; left < 0 || !visit(content[blob+slot:][:size]) {
			return
		}
	}
}

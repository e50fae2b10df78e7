package wasm

import "fmt"

// code walks the instructions of all functions, to see which features they use.
func (d *reader) code() {
	for range d.u32() {
		size := int64(d.u32())
		end := d.offset() + size
		for range d.u32() { // local variables, in groups of one type
			d.u32()
			d.valueType()
		}
		for d.offset() < end {
			if !d.instruction() {
				break // of a proposal that came later; the function's size says where to go on
			}
		}
		if d.offset() > end {
			d.broken("a function is longer than it says")
		}
		d.skip(end - d.offset())
	}
}

// instruction reads one instruction with its immediates (core specification, section 5.4). It is false for one
// that it does not know.
func (d *reader) instruction() bool {
	op := d.byte()
	switch {
	case op <= 0x01, op == 0x05, op == 0x0b, op == 0x0f, op == 0x1a, op == 0x1b: // no immediates
	case op >= 0x02 && op <= 0x04: // block, loop, if
		d.s64()
	case op == 0x06, op == 0x07, op == 0x08, op == 0x09, op == 0x18: // the earlier form of exceptions
		d.used[Exceptions] = true
		d.s64()
	case op == 0x19:
		d.used[Exceptions] = true
	case op == 0x0a:
		d.used[Exceptions] = true
	case op == 0x1f:
		d.used[Exceptions] = true
		d.tryTable()
	case op == 0x0c, op == 0x0d, op == 0x10: // br, br_if, call
		d.u32()
	case op == 0x0e:
		for range d.u32() {
			d.u32()
		}
		d.u32()
	case op == 0x11: // call_indirect
		d.u32()
		d.u32()
	case op == 0x12, op == 0x15:
		d.used[TailCalls] = true
		d.u32()
	case op == 0x13:
		d.used[TailCalls] = true
		d.u32()
		d.u32()
	case op == 0x14: // call_ref
		d.used[GC] = true
		d.u32()
	case op == 0x1c:
		for range d.u32() {
			d.valueType()
		}
	case op >= 0x20 && op <= 0x24: // variables
		d.u32()
	case op == 0x25, op == 0x26: // table.get, table.set
		d.used[ReferenceTypes] = true
		d.u32()
	case op >= 0x28 && op <= 0x3e: // loads and stores
		d.memoryArgument()
	case op == 0x3f, op == 0x40:
		d.u32()
	case op == 0x41:
		d.s32()
	case op == 0x42:
		d.s64()
	case op == 0x43:
		d.skip(4)
	case op == 0x44:
		d.skip(8)
	case op >= 0x45 && op <= 0xc4: // arithmetic
	case op == 0xd0:
		d.used[ReferenceTypes] = true
		d.s64()
	case op == 0xd1:
		d.used[ReferenceTypes] = true
	case op == 0xd2:
		d.used[ReferenceTypes] = true
		d.u32()
	case op == 0xfb:
		d.used[GC] = true
		return false
	case op == 0xfc:
		return d.bulk()
	case op == 0xfd:
		return d.vector()
	case op == 0xfe:
		return d.atomic()
	default:
		return false
	}
	return true
}

func (d *reader) memoryArgument() {
	if align := d.u32(); align&0x40 != 0 {
		d.used[MultiMemory] = true
		d.u32()
	}
	d.u64()
}

func (d *reader) tryTable() {
	d.s64()
	for range d.u32() {
		switch kind := d.byte(); kind {
		case 0, 1:
			d.u32()
			d.u32()
		case 2, 3:
			d.u32()
		default:
			d.broken(fmt.Sprintf("there is no catch of kind %d", kind))
		}
	}
}

// bulk reads what follows 0xfc: saturating conversions, and memory and tables as a whole.
func (d *reader) bulk() bool {
	switch op := d.u32(); {
	case op <= 7: // conversions
	case op == 8, op == 10, op == 12, op == 14: // memory.init, memory.copy, table.init, table.copy
		d.used[BulkMemory] = true
		d.u32()
		d.u32()
	case op == 9, op == 11, op == 13: // data.drop, memory.fill, elem.drop
		d.used[BulkMemory] = true
		d.u32()
	case op >= 15 && op <= 17: // table.grow, table.size, table.fill
		d.used[ReferenceTypes] = true
		d.u32()
	default:
		return false
	}
	return true
}

// vector reads what follows 0xfd.
func (d *reader) vector() bool {
	d.used[SIMD] = true
	switch op := d.u32(); {
	case op <= 11, op == 92, op == 93: // loads and stores
		d.memoryArgument()
	case op == 12, op == 13: // a constant, a shuffle
		d.skip(16)
	case op >= 21 && op <= 34: // lanes
		d.byte()
	case op >= 84 && op <= 91: // loads and stores of lanes
		d.memoryArgument()
		d.byte()
	case op >= 0x100 && op <= 0x13f:
		d.used[RelaxedSIMD] = true
	case op >= 0x140:
		return false
	}
	return true
}

// atomic reads what follows 0xfe.
func (d *reader) atomic() bool {
	d.used[Threads] = true
	switch op := d.u32(); {
	case op == 3: // fence
		d.byte()
	case op <= 0x4e:
		d.memoryArgument()
	default:
		return false
	}
	return true
}

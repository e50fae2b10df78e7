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
	switch op {
	case 0xfb:
		d.used[GC] = true
		return false
	case 0xfc:
		return d.bulk()
	case 0xfd:
		return d.vector()
	case 0xfe:
		return d.atomic()
	}
	i := instructions[op]
	if i.read == nil {
		return false
	}
	if i.needs != "" {
		d.used[i.needs] = true
	}
	i.read(d)
	return true
}

// An opcode is how an instruction goes on, and the feature that it belongs to.
type opcode struct {
	read  func(*reader)
	needs Feature
}

// instructions are those of one byte.
var instructions = func() (t [256]opcode) {
	none, one, two := func(*reader) {}, func(d *reader) { d.u32() }, func(d *reader) { d.u32(); d.u32() }
	long := func(d *reader) { d.s64() }
	for _, row := range []struct {
		from, to byte
		opcode
	}{
		{0x00, 0x01, opcode{none, ""}},
		{0x02, 0x04, opcode{long, ""}},         // block, loop, if
		{0x05, 0x05, opcode{none, ""}},         // else
		{0x06, 0x09, opcode{long, Exceptions}}, // the earlier form of exceptions
		{0x0a, 0x0a, opcode{none, Exceptions}},
		{0x0b, 0x0b, opcode{none, ""}}, // end
		{0x0c, 0x0d, opcode{one, ""}},  // br, br_if
		{0x0e, 0x0e, opcode{(*reader).branchTable, ""}},
		{0x0f, 0x0f, opcode{none, ""}}, // return
		{0x10, 0x10, opcode{one, ""}},  // call
		{0x11, 0x11, opcode{two, ""}},  // call_indirect
		{0x12, 0x12, opcode{one, TailCalls}},
		{0x13, 0x13, opcode{two, TailCalls}},
		{0x14, 0x14, opcode{one, GC}}, // call_ref
		{0x15, 0x15, opcode{one, TailCalls}},
		{0x18, 0x18, opcode{long, Exceptions}},
		{0x19, 0x19, opcode{none, Exceptions}},
		{0x1a, 0x1b, opcode{none, ""}}, // drop, select
		{0x1c, 0x1c, opcode{(*reader).typedSelect, ""}},
		{0x1f, 0x1f, opcode{(*reader).tryTable, Exceptions}},
		{0x20, 0x24, opcode{one, ""}},             // variables
		{0x25, 0x26, opcode{one, ReferenceTypes}}, // table.get, table.set
		{0x28, 0x3e, opcode{(*reader).memoryArgument, ""}},
		{0x3f, 0x40, opcode{one, ""}},
		{0x41, 0x41, opcode{func(d *reader) { d.s32() }, ""}},
		{0x42, 0x42, opcode{long, ""}},
		{0x43, 0x43, opcode{func(d *reader) { d.skip(4) }, ""}},
		{0x44, 0x44, opcode{func(d *reader) { d.skip(8) }, ""}},
		{0x45, 0xc4, opcode{none, ""}}, // arithmetic
		{0xd0, 0xd0, opcode{long, ReferenceTypes}},
		{0xd1, 0xd1, opcode{none, ReferenceTypes}},
		{0xd2, 0xd2, opcode{one, ReferenceTypes}},
	} {
		for op := int(row.from); op <= int(row.to); op++ {
			t[op] = row.opcode
		}
	}
	return t
}()

// branchTable reads the labels of a br_table.
func (d *reader) branchTable() {
	for range d.u32() {
		d.u32()
	}
	d.u32()
}

// typedSelect reads the types of a select.
func (d *reader) typedSelect() {
	for range d.u32() {
		d.valueType()
	}
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

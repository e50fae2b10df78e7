// Package wasm reads WebAssembly modules by the core specification: what memory they want, what they import, how
// much data they carry, and which features they use. It runs nothing.
package wasm

import (
	"fmt"
	"io"
	"slices"
)

// pageSize is the size of a page of memory, in bytes (core specification, section 4.2.8).
const pageSize = 65536

// A Module is what a module says of itself.
type Module struct {
	Memories  []Memory
	Imports   []Import
	Exports   int
	Functions int
	DataBytes int64     // carried in data segments
	Features  []Feature // used, in the order of the list below
	Names     bool      // carries names or debug information that players don't need
	NameBytes int64
}

// A Memory is one that a module defines or imports.
type Memory struct {
	Initial  uint64 // bytes
	Maximum  uint64 // bytes; 0 when it names none
	Shared   bool
	Is64     bool
	Imported bool
}

// An Import is something that a module wants from the page.
type Import struct {
	Module, Name string
	Kind         string // function, table, memory, global, tag
}

// A Feature is a part of WebAssembly that came after its first version, so that a browser may lack it.
type Feature string

// The features.
const (
	Threads        Feature = "threads"
	SIMD           Feature = "SIMD"
	RelaxedSIMD    Feature = "relaxed SIMD"
	Exceptions     Feature = "exceptions"
	BulkMemory     Feature = "bulk memory"
	ReferenceTypes Feature = "reference types"
	TailCalls      Feature = "tail calls"
	Memory64       Feature = "64-bit memory"
	MultiMemory    Feature = "several memories"
	GC             Feature = "garbage collection"
)

var order = []Feature{Threads, SIMD, RelaxedSIMD, Exceptions, BulkMemory, ReferenceTypes, TailCalls, Memory64, MultiMemory, GC}

// Shared reports whether the module wants a memory that is shared between threads, for which the page must be
// served with cross-origin isolation headers.
func (m *Module) Shared() bool {
	return slices.ContainsFunc(m.Memories, func(x Memory) bool { return x.Shared })
}

// A Broken error says that bytes are not a whole module, and where that shows.
type Broken struct {
	Offset int64
	Reason string
}

func (e *Broken) Error() string {
	return fmt.Sprintf("not a whole WebAssembly module: %s at byte %d", e.Reason, e.Offset)
}

// Read reads a module to its end. Errors are *Broken, or those of r. What was read before an error is returned with it.
func Read(r io.Reader) (*Module, error) {
	d := &reader{r: r, m: &Module{}, used: map[Feature]bool{}}
	err := d.catch(d.module)
	for _, f := range order {
		if d.used[f] {
			d.m.Features = append(d.m.Features, f)
		}
	}
	return d.m, err
}

// catch turns the panics with which the reader gives up into errors.
func (d *reader) catch(f func()) (err error) {
	defer func() {
		switch e := recover().(type) {
		case nil:
		case giveUp:
			err = e.error
		default:
			panic(e)
		}
	}()
	f()
	return nil
}

// giveUp carries an error out of the depth of a module.
type giveUp struct{ error }

func (d *reader) broken(reason string) {
	panic(giveUp{&Broken{d.offset(), reason}})
}

// The ids of sections (core specification, section 5.5.2).
const (
	customSection = iota
	typeSection
	importSection
	functionSection
	tableSection
	memorySection
	globalSection
	exportSection
	startSection
	elementSection
	codeSection
	dataSection
	dataCountSection
	tagSection
)

func (d *reader) module() {
	var magic [8]byte
	for i := range magic {
		magic[i] = d.byte()
	}
	if string(magic[:]) != "\x00asm\x01\x00\x00\x00" {
		d.broken("it does not begin as one, of version 1")
	}
	for {
		id, ok := d.sectionID()
		if !ok {
			return
		}
		size := int64(d.u32())
		end := d.offset() + size
		d.section(id, end)
		if d.offset() > end {
			d.broken(fmt.Sprintf("section %d is longer than it says", id))
		}
		d.skip(end - d.offset())
	}
}

func (d *reader) section(id byte, end int64) {
	switch id {
	case customSection:
		d.custom(end)
	case typeSection:
		d.types()
	case importSection:
		d.imports()
	case functionSection:
		d.m.Functions += int(d.u32())
	case tableSection:
		for range d.u32() {
			d.table()
		}
	case memorySection:
		for range d.u32() {
			d.memory(false)
		}
	case exportSection:
		d.m.Exports = int(d.u32())
	case codeSection:
		d.code()
	case dataSection:
		d.data(end)
	case dataCountSection:
		d.used[BulkMemory] = true
	case tagSection:
		d.used[Exceptions] = true
	case globalSection, startSection, elementSection:
	default:
		d.broken(fmt.Sprintf("there is no section %d", id))
	}
}

// custom looks at sections that only tools read. What debuggers want is dead weight for players.
func (d *reader) custom(end int64) {
	start := d.offset()
	name := d.name(end)
	if name == "name" || len(name) > 7 && name[:7] == ".debug_" || name == "sourceMappingURL" || name == "external_debug_info" {
		d.m.Names = true
		d.m.NameBytes += end - start
	}
}

func (d *reader) types() {
	for range d.u32() {
		switch form := d.byte(); form {
		case 0x60:
			for range d.u32() {
				d.valueType()
			}
			for range d.u32() {
				d.valueType()
			}
		case 0x5f, 0x5e, 0x50, 0x4f, 0x4e: // struct, array, subtypes, recursive groups
			d.used[GC] = true
			return // the rest of the section says nothing that is asked
		default:
			d.broken(fmt.Sprintf("there is no type %#x", form))
		}
	}
}

func (d *reader) valueType() {
	switch b := d.byte(); b {
	case 0x7f, 0x7e, 0x7d, 0x7c, 0x70: // i32, i64, f32, f64, funcref
	case 0x7b:
		d.used[SIMD] = true
	case 0x6f:
		d.used[ReferenceTypes] = true
	case 0x63, 0x64: // (ref null ht), (ref ht)
		d.heapType()
	default:
		if b >= 0x68 && b <= 0x74 {
			d.heap(b)
			return
		}
		d.broken(fmt.Sprintf("there is no value type %#x", b))
	}
}

// heapType reads what a reference refers to: an abstract type in one byte, or the index of a type of the module.
func (d *reader) heapType() {
	b := d.byte()
	if b < 0x40 || b&0x80 != 0 { // an index
		d.used[GC] = true
		for b&0x80 != 0 {
			b = d.byte()
		}
		return
	}
	d.heap(b)
}

func (d *reader) heap(b byte) {
	switch b {
	case 0x69, 0x74: // exn, noexn
		d.used[Exceptions] = true
	case 0x70, 0x6f: // func, extern
		d.used[ReferenceTypes] = true
	default:
		d.used[GC] = true
	}
}

func (d *reader) imports() {
	for range d.u32() {
		i := Import{Module: d.name(-1), Name: d.name(-1)}
		switch kind := d.byte(); kind {
		case 0:
			i.Kind = "function"
			d.u32()
		case 1:
			i.Kind = "table"
			d.table()
		case 2:
			i.Kind = "memory"
			d.memory(true)
		case 3:
			i.Kind = "global"
			d.valueType()
			d.byte()
		case 4:
			i.Kind = "tag"
			d.used[Exceptions] = true
			d.byte()
			d.u32()
		default:
			d.broken(fmt.Sprintf("there is no kind of import %d", kind))
		}
		if len(d.m.Imports) < maxImports {
			d.m.Imports = append(d.m.Imports, i)
		}
	}
}

// maxImports bounds what is kept of a module that was made to exhaust its reader.
const maxImports = 100_000

func (d *reader) table() {
	d.valueType()
	d.limits()
}

func (d *reader) limits() (initial, maximum uint64, flags byte) {
	flags = d.byte()
	if flags > 7 {
		d.broken(fmt.Sprintf("there are no limits of form %#x", flags))
	}
	initial = d.u64()
	if flags&1 != 0 {
		maximum = d.u64()
	}
	return initial, maximum, flags
}

func (d *reader) memory(imported bool) {
	initial, maximum, flags := d.limits()
	if initial > 1<<48 || maximum > 1<<48 {
		d.broken("a memory is larger than any can be")
	}
	m := Memory{Initial: initial * pageSize, Maximum: maximum * pageSize, Shared: flags&2 != 0, Is64: flags&4 != 0, Imported: imported}
	if m.Shared {
		d.used[Threads] = true
	}
	if m.Is64 {
		d.used[Memory64] = true
	}
	if len(d.m.Memories) > 0 {
		d.used[MultiMemory] = true
	}
	if len(d.m.Memories) < 100 {
		d.m.Memories = append(d.m.Memories, m)
	}
}

func (d *reader) data(end int64) {
	for range d.u32() {
		switch kind := d.u32(); kind {
		case 0, 2:
			if kind == 2 {
				d.u32()
			}
			if !d.constant() {
				d.m.DataBytes += max(0, end-d.offset()) // the rest is data, near enough
				return
			}
		case 1:
			d.used[BulkMemory] = true
		default:
			d.broken(fmt.Sprintf("there is no kind of data segment %d", kind))
		}
		n := int64(d.u32())
		d.m.DataBytes += n
		d.skip(n)
	}
}

// constant reads the expression that says where a segment goes; it is false for one that it does not know.
func (d *reader) constant() bool {
	for {
		switch d.byte() {
		case 0x0b:
			return true
		case 0x41:
			d.s32()
		case 0x42:
			d.s64()
		case 0x23:
			d.u32()
		case 0x6a, 0x6b, 0x6c, 0x7c, 0x7d, 0x7e: // extended constants
		default:
			return false
		}
	}
}

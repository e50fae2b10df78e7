package expression

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"hash"
	"io"
	"net/url"
	"reflect"
	"slices"
	"strings"

	"github.com/expr-lang/expr"

	"havvel/internal/settings"
)

// Bytes is what a hash function gives; a text shows it in hexadecimal digits.
type Bytes []byte

// Escaped is a text that may stand in an address as it is.
type Escaped string

// own are the functions beside those of the library. Their order is that of the documentation.
var own = []struct {
	name, says string
	call       func(args ...any) (any, error)
	form       any
}{
	{"json", "a value as JSON", toJSON, new(func(any) string)},
	{"url", "a text with everything escaped that has a meaning in an address", escapeAll, new(func(any) Escaped)},
	{"path", "likewise, but slashes stay", escapePath, new(func(any) Escaped)},
	{"xml", "a text with everything escaped that has a meaning in XML", escapeXML, new(func(any) string)},
	{"base64", "bytes or a text in base64", toBase64, new(func(any) string)},
	{"unbase64", "the bytes that base64 stands for", fromBase64, new(func(string) Bytes)},
	{"hex", "bytes or a text in hexadecimal digits", toHex, new(func(any) string)},
	{"unhex", "the bytes that hexadecimal digits stand for", fromHex, new(func(string) Bytes)},
	{"sha256", "the SHA-256 of a text, of bytes or of a file", digest(sha256.New), new(func(any) Bytes)},
	{"sha1", "likewise, SHA-1", digest(sha1.New), new(func(any) Bytes)},
	{"md5", "likewise, MD5", digest(md5.New), new(func(any) Bytes)},
	{"hmac", `a signature: hmac("sha256", key, text)`, sign, new(func(string, any, any) Bytes)},
	{"pieces", `a file in pieces: pieces(archive, "8 MB")`, pieces, new(func(File, any) []File)},
	{"member", "", member, new(func(any, string) any)},
}

// withheld are functions of the library that have another name here, or that depend on the machine.
var withheld = []string{"now", "date", "timezone", "duration", "toJSON", "fromJSON", "toBase64", "fromBase64"}

func functions() []expr.Option {
	options := []expr.Option{expr.Patch(strict{}), expr.MaxNodes(2000)}
	for _, name := range withheld {
		options = append(options, expr.DisableBuiltin(name))
	}
	for _, f := range own {
		options = append(options, expr.Function(f.name, func(args ...any) (any, error) { return f.call(args...) }, f.form))
	}
	return options
}

func isFunction(name string) bool {
	for _, f := range own {
		if f.name == name {
			return true
		}
	}
	return false
}

// A Function is one that expressions can call beside those of the library.
type Function struct{ Name, Says string }

// Functions lists them.
func Functions() []Function {
	var list []Function
	for _, f := range own {
		if f.says != "" {
			list = append(list, Function{f.name, f.says})
		}
	}
	return list
}

func toJSON(args ...any) (any, error) {
	data, err := json.Marshal(args[0])
	return string(data), err
}

func escapeAll(args ...any) (any, error) {
	text, err := Plain(args[0])
	return Escaped(strings.ReplaceAll(url.QueryEscape(text), "+", "%20")), err
}

func escapePath(args ...any) (any, error) {
	text, err := Plain(args[0])
	parts := strings.Split(text, "/")
	for i := range parts {
		parts[i] = url.PathEscape(parts[i])
	}
	return Escaped(strings.Join(parts, "/")), err
}

func escapeXML(args ...any) (any, error) {
	text, err := Plain(args[0])
	if err != nil {
		return "", err
	}
	var out strings.Builder
	err = xml.EscapeText(&out, []byte(text))
	return out.String(), err
}

// raw is what a hash is made of.
func raw(v any) (io.Reader, func() error, error) {
	nothing := func() error { return nil }
	switch v := v.(type) {
	case Bytes:
		return strings.NewReader(string(v)), nothing, nil
	case File:
		f, err := v.Open()
		if err != nil {
			return nil, nothing, err
		}
		return f, f.Close, nil
	}
	text, err := Plain(v)
	return strings.NewReader(text), nothing, err
}

func all(v any) ([]byte, error) {
	r, done, err := raw(v)
	if err != nil {
		return nil, err
	}
	defer done()
	return io.ReadAll(r)
}

func toBase64(args ...any) (any, error) {
	data, err := all(args[0])
	return base64.StdEncoding.EncodeToString(data), err
}

func fromBase64(args ...any) (any, error) {
	text := strings.NewReplacer("-", "+", "_", "/").Replace(strings.TrimRight(args[0].(string), "="))
	data, err := base64.RawStdEncoding.DecodeString(text)
	return Bytes(data), err
}

func toHex(args ...any) (any, error) {
	data, err := all(args[0])
	return hex.EncodeToString(data), err
}

func fromHex(args ...any) (any, error) {
	data, err := hex.DecodeString(args[0].(string))
	return Bytes(data), err
}

func digest(kind func() hash.Hash) func(...any) (any, error) {
	return func(args ...any) (any, error) {
		r, done, err := raw(args[0])
		if err != nil {
			return nil, err
		}
		defer done()
		h := kind()
		if _, err := io.Copy(h, r); err != nil {
			return nil, err
		}
		return Bytes(h.Sum(nil)), nil
	}
}

func sign(args ...any) (any, error) {
	kinds := map[string]func() hash.Hash{"sha256": sha256.New, "sha1": sha1.New, "md5": md5.New, "sha512": sha512.New}
	kind := kinds[args[0].(string)]
	if kind == nil {
		return nil, fmt.Errorf("hmac is by sha256, sha512, sha1 or md5, not by %q", args[0])
	}
	key, err := all(args[1])
	if err != nil {
		return nil, err
	}
	r, done, err := raw(args[2])
	if err != nil {
		return nil, err
	}
	defer done()
	h := hmac.New(kind, key)
	_, err = io.Copy(h, r)
	return Bytes(h.Sum(nil)), err
}

func pieces(args ...any) (any, error) {
	f, ok := args[0].(File)
	if !ok {
		return nil, errors.New("pieces are made of a file")
	}
	each, err := bytesOf(args[1])
	if err != nil || each <= 0 {
		return nil, fmt.Errorf("pieces need a size, such as \"8 MB\"")
	}
	var list []File
	for at := 0; at < f.Bytes || at == 0; at += each {
		p := f
		p.Number, p.Offset, p.Bytes, p.Total = len(list)+1, f.Offset+at, min(each, f.Bytes-at), f.Bytes
		p.End, p.SHA256, p.whole = max(at+p.Bytes-1, 0), "", f.SHA256
		list = append(list, p)
	}
	return list, nil
}

func bytesOf(v any) (int, error) {
	switch v := v.(type) {
	case int:
		return v, nil
	case string:
		var s settings.Size
		err := s.UnmarshalText([]byte(v))
		return int(s), err
	}
	text, err := Plain(v)
	if err != nil {
		return 0, err
	}
	n := 0
	_, err = fmt.Sscan(text, &n)
	return n, err
}

// member is what an object of an answer has under a key.
func member(args ...any) (any, error) {
	key := args[1].(string)
	switch of := args[0].(type) {
	case map[string]any:
		if v, ok := of[key]; ok {
			return v, nil
		}
		var has []string
		for name := range of {
			has = append(has, name)
		}
		slices.Sort(has)
		return nil, fmt.Errorf("there is no %q in it; it has: %s", key, strings.Join(has, ", "))
	case nil:
		return nil, fmt.Errorf("there is nothing that could have %q", key)
	case File:
		v := reflect.ValueOf(of)
		for f := range v.Type().Fields() {
			if f.Tag.Get("expr") == key {
				return v.FieldByIndex(f.Index).Interface(), nil
			}
		}
	}
	return nil, fmt.Errorf("it is no object, so it has no %q", key)
}

// Package plainjson walks the plain JSON that most lines of a long file are: objects whose keys and texts are printable
// ASCII without escapes. It allocates nothing. Whatever is not plain, it refuses, for a full reader to take; what it
// takes, every reader of RFC 8259 reads alike.
package plainjson

// Blank gives the first place at or after i that is not blank.
func Blank(b []byte, i int) int {
	for i < len(b) && (b[i] == ' ' || b[i] == '\t' || b[i] == '\r' || b[i] == '\n') {
		i++
	}
	return i
}

// Text gives the end of the text that begins at i with its quote; -1 if none does, or it is not plain.
func Text(b []byte, i int) int {
	if i >= len(b) || b[i] != '"' {
		return -1
	}
	for i++; i < len(b); i++ {
		switch c := b[i]; {
		case c == '"':
			return i + 1
		case c == '\\' || c < ' ' || c > '~':
			return -1
		}
	}
	return -1
}

// Inner gives a text without its quotes.
func Inner(text []byte) []byte { return text[1 : len(text)-1] }

// Word gives the end of true, false or null at i; -1 if none of them stands there.
func Word(b []byte, i int) int {
	for _, w := range [...]string{"true", "false", "null"} {
		if len(b)-i >= len(w) && string(b[i:i+len(w)]) == w {
			return i + len(w)
		}
	}
	return -1
}

// Object walks the members of the object that begins at i. each gets a key without its quotes and where its value
// begins, and gives the value's end, or -1 to refuse. Object gives the end of the object, or -1.
func Object(b []byte, i int, each func(key []byte, value int) (end int)) int {
	if i >= len(b) || b[i] != '{' {
		return -1
	}
	if i = Blank(b, i+1); i < len(b) && b[i] == '}' {
		return i + 1
	}
	for {
		end := Text(b, i)
		if end < 0 {
			return -1
		}
		key := Inner(b[i:end])
		if i = Blank(b, end); i == len(b) || b[i] != ':' {
			return -1
		}
		if i = each(key, Blank(b, i+1)); i < 0 {
			return -1
		}
		if i = Blank(b, i); i == len(b) {
			return -1
		}
		switch b[i] {
		case '}':
			return i + 1
		case ',':
			i = Blank(b, i+1)
		default:
			return -1
		}
	}
}

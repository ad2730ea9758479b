// Package codepage reads texts that are not Unicode, in the code page of the
// machine that they were written on.
package codepage

import (
	"strconv"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
	"golang.org/x/text/encoding/unicode"
)

// pages are those that Windows is set up with, by their numbers there
// ("Code Page Identifiers", Windows' documentation).
var pages = map[int]encoding.Encoding{
	874:   charmap.Windows874,
	932:   japanese.ShiftJIS,
	936:   simplifiedchinese.GBK,
	949:   korean.EUCKR,
	950:   traditionalchinese.Big5,
	1250:  charmap.Windows1250,
	1251:  charmap.Windows1251,
	1252:  charmap.Windows1252,
	1253:  charmap.Windows1253,
	1254:  charmap.Windows1254,
	1255:  charmap.Windows1255,
	1256:  charmap.Windows1256,
	1257:  charmap.Windows1257,
	1258:  charmap.Windows1258,
	65001: unicode.UTF8,
}

// A Page is a code page.
type Page struct{ encoding encoding.Encoding }

// Numbered is the page of a number as the registry has it, in digits; that of
// western Europe where there is no such page.
func Numbered(number string) Page {
	n, _ := strconv.Atoi(number)
	if e, ok := pages[n]; ok {
		return Page{e}
	}
	return Page{charmap.Windows1252}
}

// Text is what bytes of the page say; what is no text of it becomes U+FFFD.
func (p Page) Text(raw []byte) string {
	text, err := p.encoding.NewDecoder().Bytes(raw)
	if err != nil {
		return ""
	}
	return string(text)
}

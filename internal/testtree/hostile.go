package testtree

// Hostile are names of files that shells, terminals, pages, spreadsheets or
// tickets would act on, or take for something else.
var Hostile = []string{
	"a b", "it's", `it\'s; echo PWN`, `a\`, `a\\'b`, "$(touch PWN)", "`touch PWN`", "${HOME}",
	"!!", "a!b", "*", "?", "[a-z]", "{a,b}", "~", "~root", "a;b", "a&b", "a|b", "a>b", "a<b", "#a",
	"=ls", "%self", "(a)", `"a"`, `a"$(touch PWN)"b`, "-n", "--help", "a\u00a0b", "é", "＝1", "'",
	"''", `\`, `'\''`, `\'`, "^a^b", "a=b", "%40", "@a", `$'\n'`, "a\nb", "a\x1b[31mb", "a\xffb",
	"a\u202eb", "a\u200bb", "<script>alert(1)<script>", "[a](http:x)", "=1+1", "+1", "@SUM(1)",
	"a\r\nb", "a\tb", "\x7f", "\u2028", "a,b", "x;=1+1;y",
}

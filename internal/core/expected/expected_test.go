package expected

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"net/netip"
	"reflect"
	"strings"
	"testing"
	"unicode/utf16"
)

const small = "Place,Address,MAC\nSlipway,127.40.1.11,02:d5:1a:40:01:11\n"

func utf16le(s string) []byte {
	out := []byte{0xff, 0xfe}
	for _, u := range utf16.Encode([]rune(s)) {
		out = append(out, byte(u), byte(u>>8))
	}
	return out
}

func utf16be(s string) []byte {
	out := []byte{0xfe, 0xff}
	for _, u := range utf16.Encode([]rune(s)) {
		out = append(out, byte(u>>8), byte(u))
	}
	return out
}

func TestWhatSpreadsheetsReallyWrite(t *testing.T) {
	for name, data := range map[string][]byte{
		"plain":                   []byte(small),
		"byte order mark":         []byte("\ufeff" + small),
		"semicolons":              []byte(strings.ReplaceAll(small, ",", ";")),
		"tabs, UTF-16":            utf16le(strings.ReplaceAll(small, ",", "\t")),
		"UTF-16, the other order": utf16be(small),
		"carriage returns":        []byte(strings.ReplaceAll(small, "\n", "\r\n")),
		"a line that names it":    []byte("sep=;\r\n" + strings.ReplaceAll(small, ",", ";")),
		"quotes":                  []byte("\"Place\",\"Address\",\"MAC\"\n\"Slipway\",\"127.40.1.11\",\"02-D5-1A-40-01-11\"\n"),
		"empty lines and columns": []byte("\n,,\nPlace,Address,MAC,,\n\nSlipway,127.40.1.11,02d51a400111,,\n,,,,\n"),
		"other names":             []byte("Camera Name;IP-Address;MAC address\nSlipway;127.40.1.11;02:d5:1a:40:01:11\n"),
		"unbreakable spaces":      []byte("Place,Address,MAC\n\u00a0Slipway ,127.40.1.11\u00a0,02:d5:1a:40:01:11\n"),
	} {
		table, err := ParseCSV(data)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		rows, messages := Read(table, Map(table.Head), nil)
		want := Row{Line: rows[0].Line, Place: "Slipway", Address: netip.MustParseAddr("127.40.1.11"), MAC: "02:d5:1a:40:01:11"}
		if len(rows) != 1 || len(messages) != 0 || rows[0] != want {
			t.Errorf("%s: %+v %+v", name, rows, messages)
		}
	}
	table, err := ParseCSV([]byte("Place;Make\nQuai n\xb02 \x96 \x80;x\n"))
	if err != nil || table.Lines[0].Cells[0] != "Quai n°2 – €" {
		t.Errorf("Windows-1252: %+v %v", table, err)
	}
	for want, data := range map[error][]byte{ErrEmpty: []byte("Place,Address\n"), ErrNotText: {'P', 0, 'x'},
		ErrTooLong: []byte("Place\n" + strings.Repeat("x\n", MaxLines+1))} {
		if _, err := ParseCSV(data); !errors.Is(err, want) {
			t.Errorf("%v, want %v", err, want)
		}
	}
}

func TestEachLineHasItsMessage(t *testing.T) {
	const list = `place,address,mac,make,model,recorder,channel
Slipway,127.40.1.11,02:d5:1a:40:01:11,Ottervale,OTV 412,Terminal recorder,1
,127.40.1.12,,,,,
Gangway,127.40.1.300,,,,,
Net loft,,zz:zz,,,,
Ice plant,,,,,Attic recorder,
Crew mess,,,,,,0
Fuel jetty,127.40.1.11,,,,,
slipway,,,,,,
Lifeboat house,,02-D5-1A-40-01-11,,,,
Ticket hall,224.0.0.1,,,,,
Bonded store,127.40.2.23,,,,terminal RECORDER,7.0
`
	table, err := ParseCSV([]byte(list))
	if err != nil {
		t.Fatal(err)
	}
	rows, messages := Read(table, Map(table.Head), []string{"Terminal recorder"})
	if len(rows) != 2 || rows[1].Recorder != "Terminal recorder" || rows[1].Channel != 7 || rows[1].Line != 12 {
		t.Errorf("%+v", rows)
	}
	want := map[int]string{3: "no place", 4: "no IPv4 address", 5: "no MAC", 6: "called \"Attic recorder\"",
		7: "no channel number", 8: "Line 2 has the same address", 9: "Line 2 has the same place", 10: "Line 2 has the same mac", 11: "no IPv4 address"}
	if len(messages) != len(want) {
		t.Errorf("%d messages, want %d: %+v", len(messages), len(want), messages)
	}
	for _, m := range messages {
		if !strings.Contains(m.Says, want[m.Line]) || want[m.Line] == "" {
			t.Errorf("line %d: %q, want %q", m.Line, m.Says, want[m.Line])
		}
	}
}

// 5,000 lines with 40 planted errors give 40 messages and 4,960 rows.
func TestALongListWithPlantedErrors(t *testing.T) {
	var b strings.Builder
	b.WriteString("Place;IP address;Make\r\n")
	planted := map[int]bool{}
	for i := range 5000 {
		line := fmt.Sprintf("Shed %d;127.%d.%d.%d;Ottervale\r\n", i, 60+i/60000, i/250, 1+i%250)
		if i%125 == 60 {
			planted[i+2] = true
			line = []string{";127.9.9.9;x\r\n", fmt.Sprintf("Shed %d;127.0.0.256;x\r\n", i), "Shed 3;;\r\n",
				fmt.Sprintf("Shed %d;127.60.0.1;x\r\n", i)}[i/125%4]
		}
		b.WriteString(line)
	}
	table, err := ParseCSV([]byte(b.String()))
	if err != nil {
		t.Fatal(err)
	}
	rows, messages := Read(table, Map(table.Head), nil)
	if len(rows) != 4960 || len(messages) != 40 {
		t.Fatalf("%d rows, %d messages", len(rows), len(messages))
	}
	for _, m := range messages {
		if !planted[m.Line] {
			t.Errorf("line %d isn't wrong: %s", m.Line, m.Says)
		}
	}
}

func TestWhatIsWrittenIsReadAgainTheSame(t *testing.T) {
	rows := []Row{
		{Place: "=SUM(A1)", Address: netip.MustParseAddr("127.40.1.11"), MAC: "02:d5:1a:40:01:11",
			Make: "Pinnock & Daw", Model: `a "b", c; d`, Recorder: "Terminal recorder", Channel: 12},
		{Place: "+44 quay", Model: "-12.5"}, {Place: "-dock", Make: "@home"}, {Place: "Île d'aval — 2"}, {Place: "'quoted'"},
	}
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	if err := w.WriteAll(Cells(rows)); err != nil {
		t.Fatal(err)
	}
	if strings.Contains(b.String(), "\n=") || strings.Contains(b.String(), "\n@") || !strings.Contains(b.String(), ",-12.5,") {
		t.Errorf("formulas, or a marked number: %s", b.String())
	}
	table, err := ParseCSV(b.Bytes())
	if err != nil {
		t.Fatal(err)
	}
	got, messages := Read(table, Map(table.Head), []string{"Terminal recorder"})
	for i := range got {
		got[i].Line = 0
	}
	if len(messages) != 0 || !reflect.DeepEqual(got, rows) {
		t.Errorf("%+v\n%+v\n%+v", got, rows, messages)
	}
}

func FuzzParseCSV(f *testing.F) {
	for _, s := range []string{small, "sep=;\nPlace;x\na;b", "\xff\xfeP\x00", "\"a\nb\",c\n\"", "Place\n\x80\x9f"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		table, err := ParseCSV(data)
		if err != nil {
			return
		}
		rows, messages := Read(table, Map(table.Head), nil)
		if len(rows)+len(messages) != len(table.Lines) {
			t.Fatalf("%d lines gave %d rows and %d messages", len(table.Lines), len(rows), len(messages))
		}
		// What was taken is written and read again the same.
		again, err := FromCells(Cells(rows))
		if len(rows) == 0 {
			return
		}
		if err != nil {
			t.Fatal(err)
		}
		back, bad := Read(again, Map(again.Head), nil)
		if len(bad) > 0 || len(back) != len(rows) {
			t.Fatalf("%d of %d rows came back: %+v", len(back), len(rows), bad)
		}
		for i := range back {
			back[i].Line = rows[i].Line
			if back[i] != rows[i] {
				t.Fatalf("%+v came back as %+v", rows[i], back[i])
			}
		}
	})
}

func TestSpreadsheetsTakeNoFormulas(t *testing.T) {
	for in, want := range map[string]string{"": "", "=1+1": "'=1+1", "@x": "'@x", "-8.5": "-8.5", "+3": "+3",
		"-rm": "'-rm", "Slipway": "Slipway", "\tx": "'\tx"} {
		if got := Plain(in); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
}

package roster

import (
	"bytes"
	"errors"
	"reflect"
	"strings"
	"testing"
)

const list = `name,kind,pools,traits,cores,memory,staging,nice,hours,zone,exceptions
kiln-01,rack,night graphics,big-memory floor=2,16,48GiB,512MiB,,,,
desk-tobin,desk,,,,,,19,"mon-fri 18:30-08:00; sat,sun 00:00-24:00",Europe/Dublin,"2031-12-24 never; 2031-12-25 12:00-14:00,20:00-24:00"
kiln-02,rack,,,,,,,,,
`

func TestAListIsReadAndWritten(t *testing.T) {
	rows, err := Read(strings.NewReader(list))
	if err != nil {
		t.Fatal(err)
	}
	if len(rows) != 3 || rows[1].Line != 3 || rows[0].Settings.Caps.MemoryBytes != 48<<30 ||
		rows[1].Settings.Hours.Exceptions[1].Windows[1].From != 20*60 ||
		rows[2].Settings.Hours != nil {
		t.Errorf("%+v", rows)
	}
	var out bytes.Buffer
	if err := Write(&out, rows); err != nil {
		t.Fatal(err)
	}
	again, err := Read(&out)
	if err != nil || !reflect.DeepEqual(again, rows) {
		t.Errorf("read again: %+v, %v\nwant %+v", again, err, rows)
	}
	// Any order, some columns, spaces, and the mark that table programmes put first.
	rows, err = Read(strings.NewReader("\ufeffzone, hours ,Name\n Europe/Dublin, \"mon 18:00-20:00\", kiln-09\n"))
	if err != nil || len(rows) != 1 || rows[0].Name != "kiln-09" || rows[0].Kind != "rack" ||
		rows[0].Settings.Hours.Zone != "Europe/Dublin" {
		t.Errorf("%+v, %v", rows, err)
	}
}

func TestErrorsNameLineAndColumn(t *testing.T) {
	for text, want := range map[string]string{
		"":                                "line 1: the file is empty",
		"name,colour\n":                   `line 1: there is no column "colour"`,
		"kind\nrack\n":                    "line 1: the column name is missing",
		"name,name\n":                     "line 1, column name: it is named twice",
		"name\nKiln 01\n":                 `line 2, column name: "Kiln 01" is not a valid node name`,
		"name,kind\na,rack\nb,shelf\n":    `line 3, column kind: a node is a rack or a desk, not "shelf"`,
		"name,cores\na,many\n":            `line 2, column cores: "many" is not a whole number`,
		"name,cores\na,-1\n":              "line 2, column caps: a cap cannot be less than 0",
		"name,memory\na,48 gigs\n":        `line 2, column memory: "48 gigs" is not an amount`,
		"name,traits\na,memory=4\n":       "line 2, column traits: the trait memory is found",
		"name,hours\na,mon 25:00-26:00\n": `line 2, column hours: "25:00-26:00" is not a time span`,
		"name,hours,zone\na,mon 10:00-11:00,Nowhere\n": `line 2, column zone: "Nowhere" is not a time zone`,
		"name,exceptions\na,2031-12-24 never\n": "line 2, column exceptions: exceptions " +
			"belong to hours",
		"name,hours,exceptions\na,mon 10:00-11:00,24.12. never\n": `line 2, column exceptions: "24.12." is not a date`,
		"name,kind\na\n":         "line 2: it has a different number of cells",
		"name\n\"a\n":            "line 2: at character",
		"name\na\n\nb\na\n":      "line 5, column name: a is already on line 2",
		"name,cores\na,x\nb,y\n": "line 3, column cores", // all that is wrong is told
	} {
		rows, err := Read(strings.NewReader(text))
		var e *Error
		if err == nil || !strings.Contains(err.Error(), want) || !errors.As(err, &e) {
			t.Errorf("%q: %v, %v, want %s", text, rows, err, want)
		}
	}
}

// FuzzRead looks that what is read can be written and read again.
func FuzzRead(f *testing.F) {
	f.Add(list)
	f.Add("name\n\"a\"\"b\"\n")
	f.Add("zone,hours,name\nUTC,always,a\n")
	f.Fuzz(func(t *testing.T, text string) {
		rows, err := Read(strings.NewReader(text))
		if err != nil {
			return
		}
		var out bytes.Buffer
		if err := Write(&out, rows); err != nil {
			t.Fatal(err)
		}
		again, err := Read(bytes.NewReader(out.Bytes()))
		if err != nil || len(again) != len(rows) {
			t.Fatalf("%q was written as %q: %v", text, out.String(), err)
		}
		for i := range rows {
			rows[i].Line, again[i].Line = 0, 0
			if !reflect.DeepEqual(rows[i], again[i]) {
				t.Fatalf("%+v was written and read as %+v", rows[i], again[i])
			}
		}
	})
}

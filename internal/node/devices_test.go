package node

import (
	"os"
	"path/filepath"
	"testing"

	"vexillum/internal/wire"
)

func TestGraphicsDevicesAreListed(t *testing.T) {
	bus := t.TempDir()
	for name, files := range map[string]map[string]string{
		"0000:00:02.0": {"class": "0x030000\n", "vendor": "0x1af4\n", "device": "0x1050\n", "mem_info_vram_total": "25769803776\n"},
		"0000:00:03.0": {"class": "0x020000\n", "vendor": "0x1af4\n"}, // a network card
		"0000:41:00.0": {"class": "0x030200\n"},
	} {
		if err := os.Mkdir(filepath.Join(bus, name), 0o755); err != nil {
			t.Fatal(err)
		}
		for file, text := range files {
			if err := os.WriteFile(filepath.Join(bus, name, file), []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	got := graphicsDevices(bus)
	want := []wire.Device{{ID: "0000:00:02.0", Model: "1af4:1050", Memory: 24 << 30}, {ID: "0000:41:00.0"}}
	if len(got) != 2 || got[0] != want[0] || got[1] != want[1] {
		t.Errorf("found %+v, want %+v", got, want)
	}
	if got := graphicsDevices(filepath.Join(bus, "gone")); len(got) != 0 {
		t.Errorf("found %+v on no bus", got)
	}
}

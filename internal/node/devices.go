package node

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"vexillum/internal/wire"
)

// pciDevices is where Linux lists what is on the PCI bus.
const pciDevices = "/sys/bus/pci/devices"

// graphicsDevices lists the graphics devices that the system names; on
// others than Linux, none. The address on the bus is a device's name: it stays
// the same over restarts. Memory is known where its driver reports it.
func graphicsDevices(bus string) []wire.Device {
	devices := []wire.Device{}
	found, err := filepath.Glob(filepath.Join(bus, "*"))
	if err != nil {
		return devices
	}
	read := func(dir, name string) string {
		data, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			return ""
		}
		return strings.TrimSpace(string(data))
	}
	for _, dir := range found {
		if !strings.HasPrefix(read(dir, "class"), "0x03") { // display controllers
			continue
		}
		d := wire.Device{ID: filepath.Base(dir)}
		if vendor, device := read(dir, "vendor"), read(dir, "device"); vendor != "" {
			d.Model = strings.TrimPrefix(vendor, "0x") + ":" + strings.TrimPrefix(device, "0x")
		}
		d.Memory, _ = strconv.ParseInt(read(dir, "mem_info_vram_total"), 10, 64)
		devices = append(devices, d)
	}
	return devices
}

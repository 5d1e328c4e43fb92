package wholefile

import (
	"fmt"
	"io"
	"os"
	"syscall"
)

// Read reads a regular file of at most so many octets. Anything else is an error: a device
// may never end, and a FIFO may never begin.
func Read(path string, most int64) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0) // opening a FIFO waits for a writer
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	switch mode := info.Mode(); {
	case mode.IsDir():
		return nil, fmt.Errorf("%s is a folder, not a file", path)
	case !mode.IsRegular():
		return nil, fmt.Errorf("%s: %w", path, ErrNotRegular)
	case info.Size() > most:
		return nil, fmt.Errorf("%s is too large: %d octets; at most %d are read", path, info.Size(), most)
	}
	text := make([]byte, info.Size())
	n, err := io.ReadFull(f, text)
	if err == io.ErrUnexpectedEOF || err == io.EOF { // it was cut short meanwhile
		err = nil
	}
	return text[:n], err
}

package gate

import (
	"net"
	"syscall"
	"unsafe"
)

// queued is how many bytes the system holds that the peer has not acknowledged; ok tells
// whether that is known.
func queued(c net.Conn) (bytes int64, ok bool) {
	tcp, isTCP := c.(*net.TCPConn)
	if !isTCP {
		return 0, false
	}
	raw, err := tcp.SyscallConn()
	if err != nil {
		return 0, false
	}
	var n int32
	err = raw.Control(func(fd uintptr) {
		_, _, errno := syscall.Syscall(syscall.SYS_IOCTL, fd, syscall.TIOCOUTQ, uintptr(unsafe.Pointer(&n)))
		ok = errno == 0
	})
	return int64(n), ok && err == nil
}

"""What JACK reports of a port's latency, which its binding does not offer: asked of the same library by ctypes."""

import ctypes
import ctypes.util

CAPTURE, PLAYBACK = 0, 1
"""JackLatencyCallbackMode (JACK API, types.h)."""


class _Range(ctypes.Structure):
    """jack_latency_range_t."""

    _fields_ = (("least", ctypes.c_uint32), ("most", ctypes.c_uint32))


def latency_frames(jack, port, mode: int) -> int:
    """The longest way between a port and the sockets of the interface, in frames. jack: the binding; port: one of its
    ports; mode: CAPTURE or PLAYBACK."""
    library = ctypes.CDLL(ctypes.util.find_library("jack"))
    library.jack_port_get_latency_range.argtypes = (ctypes.c_void_p, ctypes.c_int, ctypes.POINTER(_Range))
    found = _Range()
    library.jack_port_get_latency_range(int(jack._ffi.cast("uintptr_t", port._ptr)), mode, ctypes.byref(found))
    return found.most

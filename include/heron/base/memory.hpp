#pragma once

namespace heron {

/// Asks the C library to keep the memory that the program has freed for what comes next, up to 256 MB,
/// instead of handing it back to the system: a station's later pictures then take no pages anew. For programs
/// that look at one picture after the other; call it once, first of all. Does nothing where the C library is
/// not glibc.
void keep_freed_memory();

}  // namespace heron

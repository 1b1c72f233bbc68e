#pragma once
#include <cstddef>

namespace heron {

/// The memory that one input may take while it is read, bytes; 1 GB unless set. A picture may unpack to a
/// quarter of it (while it is turned into what we use, it is held more than once), a text of a PNG file to a
/// sixteenth. What announces more is an Error{bad_file} before memory is taken.
size_t input_budget();

/// For programs that read larger pictures, or must live with less: from 64 MB to 64 GB, called before
/// anything is read. Throws Error{invalid_argument} for other sizes.
void set_input_budget(size_t bytes);

}  // namespace heron

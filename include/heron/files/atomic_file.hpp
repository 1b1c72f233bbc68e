#pragma once
#include <string>
#include <string_view>

#include "heron/files/input_budget.hpp"

namespace heron {

/// Writes the whole file or leaves what stood there: written beside it, synced, renamed, its folder synced.
/// Links stay and their target is replaced; owner and mode stay those of the old file; what a writer left
/// behind that was stopped in the middle is removed. Devices and pipes are written into, never replaced.
/// Throws Error{not_writable} with the system's reason.
void write_file(const std::string& path, std::string_view content);

/// The whole file. Throws Error{bad_file} when it is missing, is no regular file, or is larger than
/// `max_bytes`; checked before memory is taken.
std::string read_file(const std::string& path, size_t max_bytes = input_budget());

}  // namespace heron

#pragma once
#include <string>

namespace heron {

/// Runs a gnuplot script that writes to its variable `output_file`, and returns what it wrote. Throws
/// Error{not_determined} when gnuplot is not installed, fails, or takes more than a minute.
std::string run_gnuplot(const std::string& script);

}  // namespace heron

#pragma once
#include "heron/base/work.hpp"

namespace heron::tool {

/// From now on Ctrl-C (SIGINT) and SIGTERM ask work to end instead of ending the program; one that comes more
/// than a second later ends it at once, while a signal that comes twice, as `timeout` sends it, is one.
Work& stop_on_signals();

/// The status of work that a signal may have ended: 128 and the signal's number then, as a shell has it,
/// unless the signal was `meant` to end it; else `otherwise`.
int status_after_stop(int otherwise, bool meant = false);

}  // namespace heron::tool

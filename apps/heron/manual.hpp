#pragma once
#include "commands.hpp"

namespace heron::tool {

/// Writes the man pages (man1/) and the completions for bash, zsh and fish (completions/) into a folder, made
/// from the same descriptions as the help.
void write_manual(const CLI::App& app, const std::string& folder);

/// The hidden command that the build calls: heron manual FOLDER.
void add_manual(CLI::App& app, Action& action);

}  // namespace heron::tool

#pragma once
#include <CLI/CLI.hpp>
#include <string>

namespace heron::tool {

/// An option that lacks its value does not take the next option for it. To be called when all commands are
/// there.
void keep_options_apart(CLI::App& app);

/// What is wrong with the words of a call: what was given, what is allowed, what to do.
std::string wrong_use(const CLI::App* app, const CLI::Error& error);

}  // namespace heron::tool

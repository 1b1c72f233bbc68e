#pragma once
#include <CLI/CLI.hpp>

namespace heron::tool {

// Groups of options in the help of `teach` and `find`.
inline constexpr const char *what_group = "What", *where_group = "Where", *limits_group = "Limits",
                            *settings_group = "Settings of the kind", *output_group = "Output";

/// Help whose descriptions are broken at words, for terminals 120 columns wide.
class HelpFormatter : public CLI::Formatter {
 public:
  HelpFormatter();
  std::string make_option_desc(const CLI::Option* option) const override;
  std::string make_subcommand(const CLI::App* command) const override;
};

/// Leaves in the help of the command that was called only the options of the kind that was given: by `--kind`
/// of `teach`, by the target of `find`. Without one, the settings of the kinds are left out.
/// Throws Error{invalid_argument} for a kind that does not exist.
void fit_help(const CLI::App& app);

}  // namespace heron::tool

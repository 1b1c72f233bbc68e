#include "heron/link/outlet.hpp"

#include <algorithm>
#include <charconv>
#include <utility>

#include "heron/link/outlet_settings.hpp"

namespace heron {

std::optional<StationCommand> station_command(std::string_view words) {
  for (const auto& [word, kind] : {std::pair{"trigger", StationCommand::trigger},
                                   {"hold", StationCommand::hold},
                                   {"release", StationCommand::release}})
    if (words == word) return StationCommand{kind};
  constexpr std::string_view select = "select ";
  if (!words.starts_with(select)) return std::nullopt;
  const std::string_view digits = words.substr(select.size());
  StationCommand command{StationCommand::select};
  const auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), command.setup);
  if (error != std::errc() || end != digits.data() + digits.size() || command.setup < 0) return std::nullopt;
  return command;
}

std::string wrong_with_topic(const std::string& topic) {
  if (topic.empty() || topic.size() > 200) return "must be of 1 to 200 characters";
  if (topic.starts_with('/') || topic.ends_with('/')) return "must neither begin nor end with /";
  if (topic.starts_with('$')) return "must not begin with $, which is for the broker's own topics";
  const bool plain = std::all_of(topic.begin(), topic.end(),
                                 [](char c) { return c > 0x20 && c < 0x7f && c != '+' && c != '#'; });
  return plain ? "" : "may hold printable characters without space, + and #";
}

}  // namespace heron

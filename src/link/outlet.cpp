#include "heron/link/outlet.hpp"

#include <algorithm>
#include <iterator>

#include "heron/link/outlet_settings.hpp"

namespace heron {

std::optional<StationCommand> station_command(std::string_view word) {
  const auto at = std::find(std::begin(station_command_words), std::end(station_command_words), word);
  if (at == std::end(station_command_words)) return std::nullopt;
  return static_cast<StationCommand>(at - std::begin(station_command_words));
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

#include "trace.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>

#include <chrono>
#include <sstream>

namespace heron {

Trace::Trace(const std::string& path, std::function<void(const std::string&)> warn)
    : path_(path), warn_(std::move(warn)) {
  if (!path.empty()) log_.emplace(path);
}

void Trace::said(const std::string& lines) {
  if (!log_) return;
  std::istringstream text(lines);
  for (std::string line; std::getline(text, line);) add('>', line);
}

void Trace::heard(const std::string& line) {
  if (!log_) return;
  const size_t token = line.find(" TOKEN ");
  add('<', token == std::string::npos ? line : line.substr(0, token) + " TOKEN (kept secret)");
}

void Trace::noted(const std::string& what) {
  if (log_) add('#', what);
}

void Trace::add(char mark, const std::string& text) {
  const auto now = std::chrono::system_clock::now();
  const auto ms =
      std::chrono::duration_cast<std::chrono::milliseconds>(now.time_since_epoch()).count() % 1000;
  std::string plain = text;
  for (char& c : plain)
    if (c < 0x20 || c > 0x7e) c = '?';
  const std::string why =
      log_->append(fmt::format("{:%Y-%m-%dT%H:%M:%S}.{:03}Z {} {}",
                               fmt::gmtime(std::chrono::system_clock::to_time_t(now)), ms, mark, plain));
  if (!why.empty() && warn_) warn_(fmt::format("{}: {}; the trace ends here", path_, why));
}

}  // namespace heron

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <charconv>

#include "heron/base/error.hpp"
#include "heron/camera/http_camera.hpp"

namespace heron {
namespace {

/// The length that a part's header announces.
std::optional<size_t> announced_length(std::string head) {
  std::transform(head.begin(), head.end(), head.begin(),
                 [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  const std::string name = "content-length:";
  size_t at = head.find(name);
  if (at == std::string::npos) return std::nullopt;
  at += name.size();
  while (at < head.size() && head[at] == ' ') ++at;
  size_t value = 0;
  const auto [end, error] = std::from_chars(head.data() + at, head.data() + head.size(), value);
  return error == std::errc() ? std::optional(value) : std::nullopt;
}

}  // namespace

MultipartParser::MultipartParser(const std::string& boundary, size_t max_bytes)
    : mark_(boundary.starts_with("--") ? boundary : "--" + boundary), max_bytes_(max_bytes) {
  if (boundary.empty())
    throw Error(ErrorCode::no_connection, "http: the stream names no boundary between its pictures");
}

void MultipartParser::feed(const char* bytes, size_t count) {
  if (buffer_.size() + count > max_bytes_ + 65536)
    throw Error(ErrorCode::no_connection,
                fmt::format("http: a picture of more than {} million bytes", max_bytes_ / 1000000));
  buffer_.append(bytes, count);
}

std::optional<std::string> MultipartParser::next() {
  const size_t begin = buffer_.find(mark_);
  if (begin == std::string::npos) {
    // What cannot be the beginning of a mark is noise before the first part.
    if (buffer_.size() > mark_.size()) buffer_.erase(0, buffer_.size() - mark_.size());
    return std::nullopt;
  }
  const size_t head_at = begin + mark_.size(), head_end = buffer_.find("\r\n\r\n", head_at);
  if (head_end == std::string::npos) return std::nullopt;
  const size_t body = head_end + 4;
  if (const auto length = announced_length(buffer_.substr(head_at, head_end - head_at))) {
    if (*length > max_bytes_)
      throw Error(ErrorCode::no_connection,
                  fmt::format("http: a picture of {} bytes is announced; at most {} million are read",
                              *length, max_bytes_ / 1000000));
    if (buffer_.size() < body + *length) return std::nullopt;
    std::string part = buffer_.substr(body, *length);
    buffer_.erase(0, body + *length);
    return part;
  }
  const size_t end = buffer_.find("\r\n" + mark_, body);
  if (end == std::string::npos) return std::nullopt;
  std::string part = buffer_.substr(body, end - body);
  buffer_.erase(0, end + 2);
  return part;
}

}  // namespace heron

#include "heron/camera/http_camera.hpp"

#include <fmt/format.h>
#include <httplib.h>

#include "heron/base/error.hpp"
#include "heron/files/picture_file.hpp"

namespace heron {
namespace {

class HttpCamera : public Camera {
 public:
  HttpCamera(std::string address, const CameraPatience& patience)
      : address_(std::move(address)), patience_(patience) {
    const std::string scheme = "http://";
    if (!address_.starts_with(scheme) || address_.size() == scheme.size())
      fail_argument(fmt::format("'{}': an HTTP camera is written http://host:port/path", address_));
    const size_t slash = address_.find('/', scheme.size());
    host_ = address_.substr(0, slash);
    path_ = slash == std::string::npos ? "/" : address_.substr(slash);
  }

  CameraInfo info() const override { return {.address = address_, .name = "HTTP camera"}; }

  std::optional<Picture> take() override {
    httplib::Client client(host_);
    const auto seconds = patience_.wait.count() / 1000, rest = patience_.wait.count() % 1000 * 1000;
    client.set_connection_timeout(seconds, rest);
    client.set_read_timeout(seconds, rest);
    std::string whole;
    std::optional<std::string> picture;
    std::optional<PartCutter> cutter;
    std::string trouble;
    const auto deadline = std::chrono::steady_clock::now() + patience_.wait;
    const auto result = client.Get(
        path_, httplib::Headers{},
        [&](const httplib::Response& response) {
          if (response.status != 200) {
            trouble = fmt::format("answers with status {}", response.status);
            return false;
          }
          const std::string type = response.get_header_value("Content-Type");
          if (type.find("multipart/") == 0) cutter.emplace(boundary_of(type));
          return true;
        },
        [&](const char* bytes, size_t count) {
          try {
            if (cutter) {
              cutter->feed(bytes, count);
              picture = cutter->next();
            } else if (whole.size() + count > most_bytes) {
              trouble = "sends more than a picture can be";
              return false;
            } else {
              whole.append(bytes, count);
            }
          } catch (const Error& error) {
            trouble = error.what();
            return false;
          }
          if (std::chrono::steady_clock::now() > deadline)
            trouble = fmt::format("no whole picture within {} ms", patience_.wait.count());
          return !picture && trouble.empty();
        });
    if (!picture && trouble.empty()) {
      if (!result)
        trouble = httplib::to_string(result.error());
      else if (cutter)
        trouble = "the stream ended before a picture was whole";
      else
        picture = std::move(whole);
    }
    if (!picture)
      throw Error(ErrorCode::no_connection,
                  fmt::format("{}: {}. Is the camera on, and is the address right?", address_, trouble));
    Picture decoded = decode_picture(*picture, address_);
    decoded.taken = std::chrono::system_clock::now();
    return decoded;
  }

 private:
  static constexpr size_t most_bytes = size_t{256} << 20;

  static std::string boundary_of(const std::string& type) {
    const size_t at = type.find("boundary=");
    std::string boundary = at == std::string::npos ? "" : type.substr(at + 9, type.find(';', at) - at - 9);
    if (boundary.size() > 1 && boundary.front() == '"' && boundary.back() == '"')
      boundary = boundary.substr(1, boundary.size() - 2);
    return boundary;
  }

  std::string address_, host_, path_;
  CameraPatience patience_;
};

}  // namespace

std::unique_ptr<Camera> open_http(const std::string& address, const CameraPatience& patience) {
  return std::make_unique<HttpCamera>(address, patience);
}

}  // namespace heron

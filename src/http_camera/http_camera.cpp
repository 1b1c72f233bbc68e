#include "heron/camera/http_camera.hpp"

#include <curl/curl.h>
#include <fmt/format.h>

#include "camera/sent_picture.hpp"
#include "heron/base/error.hpp"

namespace heron {
namespace {

using Clock = std::chrono::steady_clock;

constexpr size_t max_bytes = size_t{256} << 20;        // of a picture
constexpr size_t max_header_bytes = size_t{64} << 10;  // of all header lines, interim answers among them

constexpr const char* header_too_long = "its header is longer than any camera's";
constexpr const char* ended_early = "the stream ended before a picture was whole";

struct EndEasy {
  void operator()(CURL* easy) const { curl_easy_cleanup(easy); }
};
struct EndList {
  void operator()(curl_slist* list) const { curl_slist_free_all(list); }
};
struct EndMulti {
  void operator()(CURLM* multi) const { curl_multi_cleanup(multi); }
};

/// The library's own state, made once before the first request.
void start_library() {
  static const CURLcode started = curl_global_init(CURL_GLOBAL_DEFAULT);
  if (started != CURLE_OK) throw Error(ErrorCode::no_connection, curl_easy_strerror(started));
}

std::string boundary_of(const std::string& type) {
  const size_t at = type.find("boundary=");
  std::string boundary = at == std::string::npos ? "" : type.substr(at + 9, type.find(';', at) - at - 9);
  if (boundary.size() > 1 && boundary.front() == '"' && boundary.back() == '"')
    boundary = boundary.substr(1, boundary.size() - 2);
  return boundary;
}

/// What comes back to one request.
struct Answer {
  CURL* easy = nullptr;
  std::optional<MultipartParser> cutter;
  std::string whole;
  std::optional<std::string> picture;
  std::string trouble;
  size_t header_bytes = 0;
  std::optional<Clock::time_point> first_byte;

  size_t header(size_t count) {
    header_bytes += count;
    if (header_bytes <= max_header_bytes) return count;
    trouble = header_too_long;
    return 0;
  }

  /// Fewer than `count` ends the transfer.
  size_t body(const char* bytes, size_t count) {
    try {
      if (!first_byte && !begin()) return 0;
      if (cutter) {
        cutter->feed(bytes, count);
        picture = cutter->next();
        return picture ? 0 : count;
      }
      if (whole.size() + count > max_bytes) {
        trouble = "sends more than a picture can be";
        return 0;
      }
      whole.append(bytes, count);
      return count;
    } catch (const std::exception& error) {
      trouble = error.what();
      return 0;
    }
  }

  bool begin() {
    first_byte = Clock::now();
    if (!good_status()) return false;
    const char* type = nullptr;
    curl_easy_getinfo(easy, CURLINFO_CONTENT_TYPE, &type);
    if (type && std::string(type).find("multipart/") == 0) cutter.emplace(boundary_of(type));
    return true;
  }

  bool good_status() {
    long status = 0;
    curl_easy_getinfo(easy, CURLINFO_RESPONSE_CODE, &status);
    if (status == 200) return true;
    trouble = fmt::format("answers with status {}", status);
    return false;
  }
};

size_t take_header(char*, size_t size, size_t count, void* answer) {
  return static_cast<Answer*>(answer)->header(size * count);
}
size_t take_body(char* bytes, size_t size, size_t count, void* answer) {
  return static_cast<Answer*>(answer)->body(bytes, size * count);
}

class HttpCamera : public Camera {
 public:
  HttpCamera(std::string address, const CameraTimeout& timeout)
      : address_(std::move(address)), timeout_(timeout) {
    const std::string scheme = "http://";
    if (!address_.starts_with(scheme) || address_.size() == scheme.size())
      fail_argument(fmt::format("'{}': an HTTP camera is written http://host:port/path", address_));
    start_library();
  }

  CameraInfo info() const override { return {.address = address_, .name = "HTTP camera"}; }

  std::optional<Picture> take() override {
    const auto asked = Clock::now();
    Answer answer;
    if (!request(answer)) return std::nullopt;
    if (!answer.picture && answer.trouble.empty()) {
      if (answer.cutter)
        answer.trouble = ended_early;
      else
        answer.picture = std::move(answer.whole);
    }
    if (!answer.picture)
      throw Error(ErrorCode::no_connection, fmt::format("{}: {}. Is the camera on, and is the address right?",
                                                        address_, answer.trouble));
    Picture picture = decode_sent(*answer.picture, address_);
    // It was exposed between the request and the first byte of the answer; no more is known.
    const auto exposed = asked + (answer.first_byte.value_or(asked) - asked) / 2;
    picture.taken = std::chrono::system_clock::now() -
                    std::chrono::duration_cast<std::chrono::system_clock::duration>(Clock::now() - exposed);
    return picture;
  }

 private:
  std::string words_of(CURLcode code) const {
    if (code == CURLE_OPERATION_TIMEDOUT)
      return fmt::format("no whole picture within {} ms", timeout_.wait.count());
    if (code == CURLE_PARTIAL_FILE || code == CURLE_RECV_ERROR) return ended_early;
    // libcurl limits a header line to 100 kB.
    if (code == CURLE_OUT_OF_MEMORY) return header_too_long;
    return curl_easy_strerror(code);
  }

  /// False after a stop. One deadline holds from asking to the last byte, for everything that a server may
  /// do in between.
  bool request(Answer& answer) const {
    const std::unique_ptr<CURL, EndEasy> easy(curl_easy_init());
    const std::unique_ptr<CURLM, EndMulti> multi(curl_multi_init());
    const std::unique_ptr<curl_slist, EndList> headers(curl_slist_append(nullptr, "Connection: close"));
    if (!easy || !multi || !headers) throw Error(ErrorCode::no_connection, "http: no memory for a request");
    answer.easy = easy.get();
    curl_easy_setopt(easy.get(), CURLOPT_URL, address_.c_str());
    curl_easy_setopt(easy.get(), CURLOPT_PROTOCOLS_STR, "http");
    curl_easy_setopt(easy.get(), CURLOPT_NOPROXY, "*");
    curl_easy_setopt(easy.get(), CURLOPT_HTTPHEADER, headers.get());
    curl_easy_setopt(easy.get(), CURLOPT_NOSIGNAL, 1L);
    curl_easy_setopt(easy.get(), CURLOPT_TIMEOUT_MS, static_cast<long>(timeout_.wait.count()));
    curl_easy_setopt(easy.get(), CURLOPT_HEADERFUNCTION, take_header);
    curl_easy_setopt(easy.get(), CURLOPT_HEADERDATA, &answer);
    curl_easy_setopt(easy.get(), CURLOPT_WRITEFUNCTION, take_body);
    curl_easy_setopt(easy.get(), CURLOPT_WRITEDATA, &answer);
    curl_multi_add_handle(multi.get(), easy.get());
    bool stopped = false;
    int running = 1;
    while (running > 0 && !stopped) {
      curl_multi_perform(multi.get(), &running);
      if (running > 0) curl_multi_poll(multi.get(), nullptr, 0, 50, nullptr);
      stopped = timeout_.stop && timeout_.stop->stopped();
    }
    int left = 0;
    const CURLMsg* end = curl_multi_info_read(multi.get(), &left);
    if (end && end->data.result != CURLE_OK && !answer.picture && answer.trouble.empty())
      answer.trouble = words_of(end->data.result);
    curl_multi_remove_handle(multi.get(), easy.get());
    if (!answer.first_byte && answer.trouble.empty() && !stopped) answer.begin();  // an empty body
    return !stopped;
  }

  std::string address_;
  CameraTimeout timeout_;
};

}  // namespace

std::unique_ptr<Camera> open_http(const std::string& address, const CameraTimeout& timeout) {
  return std::make_unique<HttpCamera>(address, timeout);
}

}  // namespace heron

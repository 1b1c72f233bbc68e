#pragma once
// What tests of several rooms share: a folder that vanishes, running programs, and the tray with its truth.
#include <unistd.h>

#include <array>
#include <atomic>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <functional>
#include <sstream>
#include <string>

#include "heron/base/error.hpp"

namespace support {

/// A new empty folder, removed with everything in it at the end of the scope.
class TemporaryFolder {
 public:
  TemporaryFolder() {
    std::string pattern = (std::filesystem::temp_directory_path() / "heron-test-XXXXXX").string();
    path_ = mkdtemp(pattern.data());
  }
  ~TemporaryFolder() {
    std::error_code ignored;
    std::filesystem::remove_all(path_, ignored);
  }
  TemporaryFolder(const TemporaryFolder&) = delete;
  TemporaryFolder& operator=(const TemporaryFolder&) = delete;
  std::string operator/(const std::string& name) const { return path_ + "/" + name; }
  const std::string& path() const { return path_; }
  size_t file_count() const {
    size_t n = 0;
    for ([[maybe_unused]] const auto& entry : std::filesystem::directory_iterator(path_)) ++n;
    return n;
  }

 private:
  std::string path_;
};

inline void write_text(const std::string& path, const std::string& text) {
  std::ofstream(path, std::ios::binary) << text;
}

inline std::string read_text(const std::string& path) {
  std::ostringstream text;
  text << std::ifstream(path, std::ios::binary).rdbuf();
  return text.str();
}

/// What an Error says; empty when `call` throws none.
inline std::string error_of(const std::function<void()>& call) {
  try {
    call();
  } catch (const heron::Error& error) {
    return error.what();
  }
  return "";
}

inline bool contains(const std::string& text, const std::string& part) {
  return text.find(part) != std::string::npos;
}

/// The error that `load` gives of a file whose text has `to` where `good` has `from`.
inline std::string error_of_changed(const std::string& good, const std::string& from, const std::string& to,
                                    const std::string& path,
                                    const std::function<void(const std::string&)>& load) {
  const size_t at = good.find(from);
  if (at == std::string::npos) return "the test's text does not hold '" + from + "'";
  write_text(path, std::string(good).replace(at, from.size(), to));
  return error_of([&] { load(path); });
}

struct Ran {
  int status = -1;
  std::string out, err;
};

/// Runs a shell command in `folder`.
inline Ran run(const std::string& command, const std::string& folder) {
  static std::atomic<int> calls = 0;
  const std::string number = std::to_string(++calls), out = folder + "/.out-" + number,
                    err = folder + "/.err-" + number;
  const int status =
      std::system(("cd " + folder + " && ( " + command + " ) >" + out + " 2>" + err + " </dev/null").c_str());
  Ran ran{WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status), read_text(out), read_text(err)};
  std::filesystem::remove(out);
  std::filesystem::remove(err);
  return ran;
}

}  // namespace support

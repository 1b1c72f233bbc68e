#include <filesystem>

#include "heron/files/atomic_file.hpp"
#include "heron/files/recording.hpp"
#include "one_input.hpp"

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* bytes, size_t count) {
  static const std::string folder = [] {
    const auto path = std::filesystem::temp_directory_path() / ("fuzz-recording-" + std::to_string(getpid()));
    std::filesystem::create_directories(path);
    for (const char* name : {"tray-01.png", "tray-02.png"}) heron::write_file((path / name).string(), "x");
    return path.string();
  }();
  if (std::FILE* index = std::fopen((folder + "/recording.toml").c_str(), "wb")) {
    std::fwrite(bytes, 1, count, index);
    std::fclose(index);
  }
  fuzz::refuse_or_read([&] { heron::load_recording(folder); });
  return 0;
}

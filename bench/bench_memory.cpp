// The most memory that a find takes beyond its picture, in bytes a pixel, on pictures full of gradients.
// `bench_memory [MEGAPIXELS]`; each picture in a process of its own, since a process never gives its peak
// back.
#include <sys/wait.h>
#include <unistd.h>

#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <cstring>

#include "heron/locate/pattern.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/render/random.hpp"

using namespace heron;

namespace {

double peak_bytes() {
  std::FILE* status = std::fopen("/proc/self/status", "r");
  char line[256];
  double kilobytes = 0;
  while (status && std::fgets(line, sizeof line, status))
    if (!std::strncmp(line, "VmHWM:", 6)) kilobytes = std::atof(line + 6);
  if (status) std::fclose(status);
  return 1024 * kilobytes;
}

enum class Content { noise, checkers, even };

Image<uint8_t> filled(int width, int height, Content content) {
  Image<uint8_t> picture(width, height);
  render::Random random(5);
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x)
      picture(x, y) = content == Content::noise      ? static_cast<uint8_t>(random.whole(0, 255))
                      : content == Content::checkers ? static_cast<uint8_t>(((x / 6 + y / 6) & 1) ? 230 : 20)
                                                     : uint8_t{90};
  return picture;
}

/// A plus sign, `size` pixels large.
PatternTarget plus_sign(int size) {
  Image<uint8_t> picture(2 * size, 2 * size);
  for (int y = 0; y < 2 * size; ++y)
    for (int x = 0; x < 2 * size; ++x) {
      const int u = std::abs(x - size), v = std::abs(y - size);
      picture(x, y) = (u < size / 2 && v < size / 6) || (v < size / 2 && u < size / 7) ? 200 : 40;
    }
  return teach_pattern(picture, Region::rectangle({2, 2, 2.0 * size - 4, 2.0 * size - 4}));
}

void measure(const char* name, Content content, int part, double megapixels) {
  const int width = static_cast<int>(std::sqrt(megapixels * 1e6 * 1.25)),
            height = static_cast<int>(width / 1.25);
  const pid_t child = fork();
  if (child == 0) {
    const PatternTarget target = plus_sign(part);
    Image<uint8_t> picture = filled(width, height, content);
    const double before = peak_bytes();
    find(target, PreparedPicture(std::move(picture)), {.scale = {0.8, 1.2}}, Explain::never);
    const double more = peak_bytes() - before, pixels = 1.0 * width * height;
    std::printf("  %-10s part of %3d px, %6.1f MP: %6.2f bytes a pixel beyond the picture (allowed %.2f)\n",
                name, part, megapixels, more / pixels, 12 + 4 * 1048576 / pixels);
    std::fflush(stdout);
    _exit(0);
  }
  waitpid(child, nullptr, 0);
}

}  // namespace

int main(int argc, char** argv) {
  const double megapixels = argc > 1 ? std::atof(argv[1]) : 5;
  for (const int part : {40, 200}) {
    measure("noise", Content::noise, part, megapixels);
    measure("checkers", Content::checkers, part, megapixels);
    measure("even", Content::even, part, megapixels);
  }
}

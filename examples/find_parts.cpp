// Finds a taught part in every picture of a folder.   find_parts TARGET.png FOLDER
#include <algorithm>
#include <cstdio>
#include <filesystem>
#include <vector>

#include "heron/files/picture_file.hpp"
#include "heron/files/target_file.hpp"
#include "heron/locate/prepared_picture.hpp"

using namespace heron;

int main(int argc, char** argv) try {
  if (argc != 3) {
    std::fprintf(stderr, "find_parts TARGET.png FOLDER\n");
    return 2;
  }
  const Target leaf = load_target(argv[1]).target;

  std::vector<std::filesystem::path> files;
  for (const auto& entry : std::filesystem::directory_iterator(argv[2]))
    if (entry.path().extension() == ".png") files.push_back(entry.path());
  std::sort(files.begin(), files.end());

  for (const auto& file : files) {
    const PreparedPicture prepared(
        grey_levels(load_picture(file.string())));  // made once for any number of targets
    const FindResult found = find(leaf, prepared, {.angle = {-180_deg, 180_deg}, .min_score = 70});

    std::printf("%s: %zu found\n", file.filename().c_str(), found.detections.size());
    for (const Detection& s : found.detections)
      std::printf("  %s at (%.2f, %.2f), turned %.2f degrees, score %.1f\n", s.target.c_str(), s.x, s.y,
                  s.angle.degrees(), s.score);
    for (const Miss& m : found.misses)
      std::printf("  not at (%.0f, %.0f): %s is %.3g, needed %s\n", m.x, m.y, m.reasons[0].name.c_str(),
                  m.reasons[0].value, m.reasons[0].needed.c_str());
  }
} catch (const std::exception& error) {
  std::fprintf(stderr, "find_parts: %s\n", error.what());
  return 2;
}

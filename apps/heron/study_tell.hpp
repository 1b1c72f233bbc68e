#pragma once
#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "heron/files/recording.hpp"
#include "heron/locate/study.hpp"

namespace heron::tool {

/// One picture of a study.
struct Entry {
  std::string file;
  double elapsed_ms = 0;
  StudiedPicture studied;
};

struct Study {
  std::vector<Entry> entries;
  StudyAdvice advice;
  std::optional<KnownOffset> offset;  ///< why nothing that is found is right
  int width = 0, height = 0;

  std::vector<StudiedPicture> pictures() const {
    std::vector<StudiedPicture> all;
    for (const Entry& e : entries) all.push_back(e.studied);
    return all;
  }
};

/// A picture of a recording, named by its path.
Picture load_for(const std::string& path);

/// Time and parts of a few pictures of the recording under other limits, each best of three.
struct Trial {
  double ms = 0;
  int found = 0;
};

class Trials {
 public:
  Trials(const Target& target, const Recording& recording);
  Trial operator()(const FindOptions& options) const;

 private:
  const Target& target_;
  std::vector<Picture> pictures_;
};

/// One setting: as it is, as proposed, why, and what that does to the time.
struct Proposal {
  std::string name, now, proposed, why;
  double time_share = 1;  ///< of the time as it is
};

std::string trouble_of(const StudiedPicture& picture);
std::string margin_words(const StudiedPicture& picture);
void print_study(const Study& study, const std::vector<Proposal>& settings, const FindOptions& now,
                 const Trials& trials, const KindInfo& kind);
nlohmann::ordered_json json_of(const std::string& target, const std::string& recording, const Study& study,
                               const std::vector<Proposal>& settings);
/// What is better and what is worse than in an older study of the same pictures.
void print_comparison(const std::string& path, const Study& study);

}  // namespace heron::tool

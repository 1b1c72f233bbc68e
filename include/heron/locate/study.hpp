#pragma once
#include <optional>
#include <vector>

#include "heron/locate/target.hpp"

namespace heron {

/// A part whose place in a picture is known.
struct KnownPart {
  double x = 0, y = 0;  ///< of the origin, picture coordinates
  std::optional<Angle> angle = {};
  std::optional<double> scale = {};
};

/// One thing that a search far beyond the limits came upon.
struct StudiedFind {
  double x = 0, y = 0;
  Angle angle;
  double scale = 1, score = 0, contrast = 0;
  bool within = false;  ///< the limits let it through
  bool right = false;   ///< it is a part: by what is known, else because the limits let it through
  std::vector<Measurement> measurements = {};  ///< as the detection has them
  std::vector<std::string> reasons = {};       ///< names of the limits that rejected it, if known
};

/// One picture of a study.
struct StudiedPicture {
  std::vector<StudiedFind> finds;     ///< best score first
  bool known = false;                 ///< its parts are known
  std::vector<KnownPart> parts = {};  ///< the known ones
  int expected = 0;                   ///< parts in it: the known ones, else those found
  int found = 0, missing = 0, wrong = 0;
  std::optional<double> margin = {};  ///< from the minimum score to the nearest right find above it
  double noise_sigma = 0;
};

/// Takes `found`, what the limits let through, finds `target` far beyond them too (any angle, a wider scale,
/// low scores, the whole picture) and sorts what comes by `known`, the parts that lie there; nothing where
/// nothing is known. A find is right within a tenth of the part's size and 10 degrees. Cost: a wide find.
StudiedPicture study_picture(const Target& target, const PreparedPicture& prepared,
                             const FindOptions& options, const FindResult& found,
                             const std::vector<KnownPart>* known = nullptr);

/// How the parts that are known lie beside what the limits let through.
struct KnownOffset {
  Point2 place;              ///< from the found origin, in the part's own frame: pixels of the taught picture
  Angle turn = {};           ///< of the known angles against those found; 0 where no angle is known
  bool other_sense = false;  ///< the known angles grow the other way round
};

/// Where no find is right though parts are known by them, all in the same way: what is known then means
/// another point of the part than its origin, or counts its angle from another zero or in the other sense.
/// Nothing when less than four fifths of the finds lie so, within a twentieth of the part's size and 5
/// degrees.
std::optional<KnownOffset> offset_of_known(const Target& target, const std::vector<StudiedPicture>& pictures);

/// Limits recommended from a set of pictures.
struct StudyAdvice {
  FindOptions options;                            ///< proposed; the search region is `region`
  std::optional<double> worst_right, best_wrong;  ///< scores; wrong ones count within the proposed ranges
  bool separated = true;           ///< a minimum score between the two keeps all parts and nothing else
  std::optional<Box> region = {};  ///< where all parts lie, with a margin; nothing when it saves little
  int right = 0;                   ///< parts that it rests on
};

/// Limits that accept all right finds with a margin and reject all others, as far as the pictures show;
/// what they do not show stays as it is. `width`, `height` of the pictures.
StudyAdvice advise(const Target& target, const FindOptions& options,
                   const std::vector<StudiedPicture>& pictures, int width, int height);

/// How a figure of the right finds goes from picture to picture: what declines, before the score fails.
struct FigureTrend {
  struct Value {
    int picture = 0;  ///< from 0
    double value = 0;
  };
  std::string name;           ///< "score", "contrast", or of a figure group: "quality.rim"
  std::vector<Value> values;  ///< in the pictures' order
  /// Of a robust line through the values: where it begins and ends, and how sure the difference is.
  double first = 0, last = 0, change_sigma = 0;
  /// By more than three sigmas and a twentieth of what it began with.
  bool changes() const;
};

/// Score, contrast, and every figure of the group "quality" that the finds have. A trend needs three pictures
/// with a find; none comes of fewer.
std::vector<FigureTrend> trends_of(const std::vector<StudiedPicture>& pictures);

/// Scores of right finds over the field of view: what a lens or a lamp does to them shows from its centre to
/// its edge. A marker's score is its quality.
struct FieldMap {
  struct Place {
    int count = 0;
    double mean = 0, lowest = 100;  ///< score; meaningless where nothing was found
  };
  int columns = 8, rows = 6;
  std::vector<Place> places;  ///< row by row
  std::vector<Place> bands;   ///< four of the same width, from the picture's centre to its corner
  int visited() const;        ///< places where something was found
};
FieldMap map_field(const std::vector<StudiedPicture>& pictures, int width, int height);

}  // namespace heron

#pragma once
#include <string>
#include <vector>

#include "heron/image/picture.hpp"
#include "heron/render/scene.hpp"

namespace heron::render {

/// What lies in a view, in picture coordinates: the truth that finding is judged by.
struct StudioPart {
  std::string kind;  ///< "teal", "leaf blank", "bore", "stud"
  Point2 pixel;
  Angle angle = {};        ///< picture sense
  double diameter_px = 0;  ///< of a round one
  double area_px = 0;
  std::vector<Point2> corners = {};    ///< of a panel, in picture coordinates
  std::vector<StudioPart> chips = {};  ///< of a panel, each of known place and area; of a plate its bore
};

/// One picture of the studio and what is in it.
struct StudioView {
  Scene scene;
  Noise noise;
  std::vector<StudioPart> parts;  ///< what is meant; everything else is clutter
  bool color = false;
};

/// The picture of a view, in color where it is one.
Picture picture_of(const StudioView& view, Random& random);

/// A camera that looks straight down at `pixels_per_mm`: pixel and millimetre differ by one factor, y turned
/// round.
CameraModel straight_camera(int width, int height, double pixels_per_mm);

/// How hard a view is.
struct StudioFilling {
  bool hard = false;   ///< light 0.3 to 1.5, gradients, blur, noise, clutter of its own sort, parts hidden
  bool empty = false;  ///< clutter alone
  int parts = 3;
  double turned = 180;  ///< parts lie within this many degrees of straight, either way
};

/// Tiles in glazes on the tray, in color; those of teal glaze are meant. Light from 0.6 to 1.1 when hard.
StudioView glazed_tiles(Random& random, const StudioFilling& filling = {});
/// Leaf blanks - leaves without relief - among mirrored ones, rosettes and hexagons, on an even tray.
StudioView leaf_blanks(Random& random, const StudioFilling& filling = {});
/// The same in cream on a blue belt, in color. Hard: the belt is worn bright and soiled in places.
StudioView blanks_on_belt(Random& random, const StudioFilling& filling = {});
/// The kiln door's frame with one dark peg bore, or one polished stud, among bolts, slots and pores.
StudioView door_frame(Random& random, const StudioFilling& filling = {}, bool stud = false);

/// A floor panel of five sides on the tray, a groove along inside its border. Hard: shifted by up to 8 mm,
/// turned by 6 degrees, 2.5 per cent nearer or farther, each side up to 0.75 mm off, chipped, partly taped
/// over, other tiles beside it.
StudioView floor_panel(Random& random, const StudioFilling& filling = {});

/// A gauge plate of 110 x 80 mm with a bore of 16 mm at (10, 5) from its middle, on a dark table; its part is
/// the plate's middle, its corners begin at the upper left, clockwise; `chips` holds the bore. Hard: shifted
/// by up to 2 mm, turned by up to 1.5 degrees, a groove along inside its border, tape over a part of each
/// side, crumbs and swarf. Empty: the table with crumbs alone.
StudioView gauge_plate(Random& random, const StudioFilling& filling = {});

/// A teal stripe of 12 mm on a floor, running up the picture on a parabola; its part is where the stripe's
/// middle crosses the picture's middle row, with its heading (clockwise from straight up) there. Hard: worn
/// through in places, gaps, a shadow, glare, skid marks, chalk. Empty: the floor with its marks.
StudioView floor_stripe(Random& random, const StudioFilling& filling = {});

}  // namespace heron::render

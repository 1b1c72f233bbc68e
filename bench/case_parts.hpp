#pragma once
#include <string>
#include <vector>

#include "heron/image/region.hpp"
#include "heron/render/scene.hpp"

/// Parts of every sort, drawn about their origin in pixels (y upwards), for benches that ask whether what
/// holds for one part holds for others.
struct CasePart {
  std::string name;
  std::vector<heron::render::Piece> pieces;
  int turns = 1;        ///< how often it looks the same in a full turn; 0: at every angle
  bool mirror = false;  ///< whether it is its own mirror image
  double width = 0, height = 0;
  std::vector<heron::Box> erased = {};      ///< what teaching leaves out, about the origin, y downwards
  bool silhouette = true;                   ///< one piece on the tray: may be taught by its outline
  double radius = 0;                        ///< of a round one, for markers
  std::vector<heron::Point2> corners = {};  ///< of a polygon, y upwards
};

std::vector<CasePart> case_parts();

/// Scenes as PNG and PDF, over Cairo and Pango.

#include <cairo-pdf.h>
#include <cairo.h>
#include <pango/pangocairo.h>

#include <cmath>
#include <memory>

#include "figure/hatch.hpp"
#include "text/text.hpp"

namespace wexlo::figure {
namespace {

using SurfacePtr = std::unique_ptr<cairo_surface_t, decltype(&cairo_surface_destroy)>;
using CairoPtr = std::unique_ptr<cairo_t, decltype(&cairo_destroy)>;

class Painter {
 public:
  explicit Painter(cairo_t* to) : to_(to) {}

  void paint(const Scene& scene) {
    colour({1, 1, 1});
    cairo_rectangle(to_, 0, 0, scene.width, scene.height);
    cairo_fill(to_);
    for (const auto& shape : scene.shapes)
      std::visit([this](const auto& one) { put(one); }, shape);
  }

 private:
  void colour(Colour one, double alpha = 1) {
    cairo_set_source_rgba(to_, one.red, one.green, one.blue, alpha);
  }

  void put(const Box& one) {
    cairo_rectangle(to_, one.x, one.y, one.width, one.height);
    colour(light(one.ink));
    cairo_set_line_width(to_, 1);
    one.filled ? cairo_fill(to_) : cairo_stroke(to_);
    if (one.hatch == Hatch::None) return;
    const bool free = one.ink == Ink::Free;
    for (const Segment& line : hatch_lines(one)) {
      cairo_move_to(to_, line.x1, line.y1);
      cairo_line_to(to_, line.x2, line.y2);
    }
    free ? colour(light(Ink::Line)) : colour({1, 1, 1}, 0.55);
    cairo_set_line_width(to_, free ? 0.7 : 1);
    cairo_stroke(to_);
    if (!free) return;
    cairo_rectangle(to_, one.x, one.y, one.width, one.height);
    cairo_set_line_width(to_, 1);
    cairo_stroke(to_);
  }

  void put(const Stroke& one) {
    bool first = true;
    for (const auto& [x, y] : one.points) {
      first ? cairo_move_to(to_, x, y) : cairo_line_to(to_, x, y);
      first = false;
    }
    constexpr double kDashes[] = {4, 3};
    cairo_set_dash(to_, kDashes, one.dashed ? 2 : 0, 0);
    colour(light(one.ink));
    cairo_set_line_width(to_, one.width);
    cairo_stroke(to_);
    cairo_set_dash(to_, nullptr, 0, 0);
  }

  void put(const Label& one) {
    const std::string text = printable(one.text);
    if (text.empty()) return;
    const std::unique_ptr<PangoLayout, decltype(&g_object_unref)> layout(
        pango_cairo_create_layout(to_), &g_object_unref);
    const std::unique_ptr<PangoFontDescription, decltype(&pango_font_description_free)> font(
        pango_font_description_from_string("DejaVu Sans"), &pango_font_description_free);
    pango_font_description_set_absolute_size(font.get(), one.size * PANGO_SCALE);
    if (one.bold) pango_font_description_set_weight(font.get(), PANGO_WEIGHT_BOLD);
    pango_layout_set_font_description(layout.get(), font.get());
    pango_layout_set_text(layout.get(), text.c_str(), static_cast<int>(text.size()));
    int width = 0, height = 0;
    pango_layout_get_size(layout.get(), &width, &height);
    double wide = static_cast<double>(width) / PANGO_SCALE;
    // Another font than the table was made for must not run into its neighbours.
    const double room = text_width(one.text, one.size, one.bold);
    const double squeeze = wide > room ? room / wide : 1;
    wide *= squeeze;
    const double x = one.anchor == Anchor::Start    ? one.x
                     : one.anchor == Anchor::Middle ? one.x - wide / 2
                                                    : one.x - wide;
    const double base = static_cast<double>(pango_layout_get_baseline(layout.get())) / PANGO_SCALE;
    if (one.on_ink)
      colour(dark_enough(one.ink) ? Colour{1, 1, 1} : Colour{0.06, 0.08, 0.1});
    else
      colour(light(one.ink));
    cairo_save(to_);
    cairo_translate(to_, x, one.y - base);
    cairo_scale(to_, squeeze, 1);
    pango_cairo_show_layout(to_, layout.get());
    cairo_restore(to_);
  }

  cairo_t* to_;
};

cairo_status_t collect(void* user, const unsigned char* bytes, unsigned size) {
  auto& out = *static_cast<Bytes*>(user);
  const auto* begin = reinterpret_cast<const std::byte*>(bytes);
  out.insert(out.end(), begin, begin + size);
  return CAIRO_STATUS_SUCCESS;
}

Error failure(cairo_status_t status) {
  return {.code = ErrorCode::Io,
          .message = std::string("cannot draw: ") + cairo_status_to_string(status)};
}

Status paint_on(cairo_surface_t* surface, const Scene& scene, double scale) {
  const CairoPtr context(cairo_create(surface), &cairo_destroy);
  cairo_scale(context.get(), scale, scale);
  Painter(context.get()).paint(scene);
  if (const auto status = cairo_status(context.get()); status != CAIRO_STATUS_SUCCESS)
    return fail(failure(status));
  return {};
}

}  // namespace

Result<Bytes> to_png(const Scene& scene, double scale) {
  constexpr double kMost = 30000;
  if (scene.width * scale > kMost || scene.height * scale > kMost)
    return fail({.code = ErrorCode::LimitExceeded,
                 .message = "the figure is too large for a picture",
                 .hint = "Draw it as SVG or PDF."});
  const SurfacePtr surface(
      cairo_image_surface_create(CAIRO_FORMAT_RGB24, static_cast<int>(scene.width * scale),
                                 static_cast<int>(scene.height * scale)),
      &cairo_surface_destroy);
  WEXLO_CHECK(paint_on(surface.get(), scene, scale));
  Bytes out;
  const auto status = cairo_surface_write_to_png_stream(surface.get(), collect, &out);
  if (status != CAIRO_STATUS_SUCCESS) return fail(failure(status));
  return out;
}

Result<Bytes> to_pdf(const Scene& scene) {
  Bytes out;
  {
    const SurfacePtr surface(
        cairo_pdf_surface_create_for_stream(collect, &out, scene.width * 0.75, scene.height * 0.75),
        &cairo_surface_destroy);
    cairo_pdf_surface_set_metadata(surface.get(), CAIRO_PDF_METADATA_TITLE, scene.title.c_str());
    // The same scene gives the same bytes: no clock.
    cairo_pdf_surface_set_metadata(surface.get(), CAIRO_PDF_METADATA_CREATE_DATE,
                                   "2000-01-01T00:00:00Z");
    WEXLO_CHECK(paint_on(surface.get(), scene, 0.75));
    cairo_surface_finish(surface.get());
    if (const auto status = cairo_surface_status(surface.get()); status != CAIRO_STATUS_SUCCESS)
      return fail(failure(status));
  }
  return out;
}

}  // namespace wexlo::figure

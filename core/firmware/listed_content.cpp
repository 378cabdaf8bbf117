#include "firmware/listed_content.hpp"

namespace wexlo {
namespace {

class ListedContent final : public Content {
 public:
  ListedContent(ContentPtr inner, std::vector<StoredFile> stored)
      : inner_(std::move(inner)), stored_(std::move(stored)) {}
  Result<Bytes> head(std::size_t count) const override { return inner_->head(count); }
  Result<SourcePtr> source(const Context& context) const override {
    return inner_->source(context);
  }
  bool parallel() const override { return inner_->parallel(); }
  const void* stream() const override { return inner_->stream(); }
  Result<Verified> read(ImageSink& sink, const ReadOptions& options,
                        const Context& context) const override {
    struct Nowhere final : ImageSink {
      Status resize(std::uint64_t) override { return {}; }
      Status write_at(std::uint64_t, View) override { return {}; }
      Status read_at(std::uint64_t, MutableView) override { return {}; }
    } nowhere;
    std::string proof;
    for (const StoredFile& one : stored_) {
      WEXLO_TRY(const Verified file,
                copy_source(*one.source, one.promises, nowhere, {.digest = false}, context));
      if (proof.empty()) proof = file.proof;
    }
    WEXLO_TRY(Verified out, inner_->read(sink, options, context));
    if (!proof.empty()) out.proof = std::move(proof);
    return out;
  }

 private:
  ContentPtr inner_;
  std::vector<StoredFile> stored_;
};

}  // namespace

ContentPtr listed_content(ContentPtr inner, std::vector<StoredFile> stored) {
  return std::make_shared<ListedContent>(std::move(inner), std::move(stored));
}

}  // namespace wexlo

# A kernel of Debian's, through an own folder of package lists: the machine's settings stay as they are.
# The caller has `work`, its folder, and `fail`.
#   fetch_kernel PROCESSOR PACKAGE FILE     its release goes to FILE.release
fetch_kernel() {
  local apt=$work/apt package
  mkdir -p "$apt/state/lists/partial" "$apt/cache/archives/partial"
  touch "$apt/state/status"
  local options=(-qq -o APT::Architecture="$1" -o APT::Architectures="$1"
    -o Dir::State="$apt/state" -o Dir::State::status="$apt/state/status"
    -o Dir::Cache="$apt/cache" -o Debug::NoLocking=1 -o APT::Sandbox::User=)
  # One list of several may be changing on the mirror: whether the package is there tells.
  apt-get "${options[@]}" update || true
  package=$(apt-cache "${options[@]}" depends "$2" | awk '/Depends:/ {print $2; exit}')
  [ "$package" ] || fail "no kernel package for $1 in the package lists"
  (cd "$apt" && apt-get "${options[@]}" download "$package")
  dpkg-deb --fsys-tarfile "$apt/$package"_*.deb | tar -xO --wildcards './boot/vmlinuz-*' >"$3"
  dpkg-deb --fsys-tarfile "$apt/$package"_*.deb | tar -t --wildcards './boot/vmlinuz-*' |
    sed 's|.*/vmlinuz-||' >"$3.release"
  rm -rf "$apt"
}

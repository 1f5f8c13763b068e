#!/bin/sh
# Build what is handed out, into build/: for each platform an archive with the
# program, its manual pages, completions and examples; and for Debian a package
# for each of its processors. The same commit gives the same bytes.
# package.sh VERSION PLATFORM…
set -eu
version=$1
shift
epoch=${SOURCE_DATE_EPOCH:-$(git log -1 --format=%ct)}
day=$(date -u -d "@$epoch" +%Y-%m-%d)
go=${GO:-go}
export CGO_ENABLED=0 GO=$go
share=$PWD/build/share
rm -rf build/share build/out
mkdir -p "$share/man" "$share/completions" "$share/examples" build/out
$go run ./cmd/manual "$share/man" "$version" "$day"
sh scripts/build.sh build/bastion-here "$version"
for shell in bash zsh fish; do
	build/bastion-here completion $shell >"$share/completions/bastion.$shell"
done
cp examples/*.yaml "$share/examples/"
rm -f build/bastion-here

pack() { tar --sort=name --owner=0 --group=0 --numeric-owner --mtime="@$epoch" "$@"; }

for platform in "$@"; do
	os=${platform%/*} arch=${platform#*/}
	name=bastion-$version-$os-$arch
	dir=build/out/$name
	mkdir -p "$dir"
	ext=
	[ "$os" = windows ] && ext=.exe
	GOOS=$os GOARCH=$arch sh scripts/build.sh "$dir/bastion$ext" "$version"
	cp README.md LICENSE CHANGELOG.md "$dir/"
	cp -R "$share/man" "$share/completions" "$share/examples" "$dir/"
	pack -C build/out -cf - "$name" | gzip -9n >"build/out/$name.tar.gz"
	echo "build/out/$name.tar.gz"
	if [ "$os" = linux ] && command -v dpkg-deb >/dev/null 2>&1; then
		deb=build/out/deb-$arch
		mkdir -p "$deb/DEBIAN" "$deb/usr/bin" "$deb/usr/share/man/man1" "$deb/usr/share/doc/bastion" "$deb/usr/share/bash-completion/completions" "$deb/usr/share/zsh/vendor-completions" "$deb/usr/share/fish/vendor_completions.d"
		cp "$dir/bastion" "$deb/usr/bin/bastion"
		for page in "$share"/man/*.1; do gzip -9nc "$page" >"$deb/usr/share/man/man1/${page##*/}.gz"; done
		cp "$share/completions/bastion.bash" "$deb/usr/share/bash-completion/completions/bastion"
		cp "$share/completions/bastion.zsh" "$deb/usr/share/zsh/vendor-completions/_bastion"
		cp "$share/completions/bastion.fish" "$deb/usr/share/fish/vendor_completions.d/bastion.fish"
		cp -R "$share/examples" "$deb/usr/share/doc/bastion/"
		gzip -9nc CHANGELOG.md >"$deb/usr/share/doc/bastion/changelog.gz"
		cp LICENSE "$deb/usr/share/doc/bastion/copyright"
		cat >"$deb/DEBIAN/control" <<CONTROL
Package: bastion
Version: $version
Architecture: $arch
Maintainer: The Open Bastion founders <founders@openbastion.example>
Section: net
Priority: optional
Installed-Size: $(du -sk "$deb/usr" | cut -f1)
Description: plan, rehearse and check a lab behind a firewall
 Plans a security lab in which a firewall or router appliance stands between a
 WAN segment and isolated guests, rehearses it packet by packet, and says
 whether any guest gets outside past the appliance.
CONTROL
		find "$deb" -type d -exec chmod 755 {} +
		find "$deb" -type f -exec chmod 644 {} +
		chmod 755 "$deb/usr/bin/bastion"
		find "$deb" -exec touch -h -d "@$epoch" {} +
		SOURCE_DATE_EPOCH=$epoch dpkg-deb --root-owner-group -Zxz --build "$deb" "build/out/bastion_${version}_$arch.deb" >/dev/null
		echo "build/out/bastion_${version}_$arch.deb"
		rm -rf "$deb"
	fi
	rm -rf "$dir"
done
(cd build/out && sha256sum -- *.tar.gz $(ls *.deb 2>/dev/null) >SHA256SUMS)

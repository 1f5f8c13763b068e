#!/bin/bash
# Make image files with the tools that people make them with, in the current folder, and
# write what each is into truth.tsv: FILE, VERDICT (ready, broken, unknown), KIND, BOOTS.
# What a tool that is not here would make is left out. The seed of all noise is fixed.
set -eu
PATH=$PATH:/usr/sbin:/sbin
exec 3>truth.tsv
t() { printf '%s\t%s\t%s\t%s\n' "$@" >&3; }
have() { for c; do command -v "$c" >/dev/null 2>&1 || [ -e "$c" ] || return 1; done; }
noise() { openssl enc -aes-128-ctr -K 00000000000000000000000000000000 -iv 00000000000000000000000000000000 -nosalt </dev/zero 2>/dev/null | head -c "$1"; }
cut_at() { # FILE PERCENT: a copy that ends early
	head -c $(($(stat -c %s "$1") * $2 / 100)) "$1" >"cut$2-$1"
}
flip() { # FILE OFFSET: a copy with one sector turned over
	cp "$1" "flip-$1"
	dd if="$1" bs=1 skip="$2" count=512 2>/dev/null | tr '\000-\377' '\001-\377\000' | dd of="flip-$1" bs=1 seek="$2" conv=notrunc 2>/dev/null
}

# What real packages carry.
R=/usr/lib/grub-rescue I=/usr/lib/ipxe M=/usr/lib/memtest86+
[ -e $R/grub-rescue-cdrom.iso ] && cp $R/grub-rescue-cdrom.iso rescue.iso && t rescue.iso ready "optical image" bios
[ -e $R/grub-rescue-usb.img ] && cp $R/grub-rescue-usb.img rescue-usb.img && t rescue-usb.img ready "optical image" bios
[ -e $R/grub-rescue-floppy.img ] && cp $R/grub-rescue-floppy.img rescue-floppy.img && t rescue-floppy.img ready "optical image" bios
[ -e $I/ipxe.iso ] && cp $I/ipxe.iso net.iso && t net.iso ready "optical image" "bios and uefi"
[ -e $I/ipxe.lkrn ] && cp $I/ipxe.lkrn net.lkrn && t net.lkrn unknown kernel -
[ -e $I/ipxe.efi ] && cp $I/ipxe.efi net.efi && t net.efi unknown "UEFI program" -
[ -e $M/memtest86+x64.iso ] && cp $M/memtest86+x64.iso memory64.iso && t memory64.iso ready "optical image" "bios and uefi"
[ -e $M/memtest86+ia32.iso ] && cp $M/memtest86+ia32.iso memory32.iso && t memory32.iso ready "optical image" "bios and uefi"
[ -e /boot/memtest86+x64.efi ] && cp /boot/memtest86+x64.efi memory.efi && t memory.efi unknown "UEFI program" -

# Disks with partitions, with and without something that starts.
efi=/boot/memtest86+x64.efi
[ -e $efi ] || efi=/bin/true
if have sfdisk mkfs.vfat mcopy mmd; then
	esp() { # FILE MIB [LOADER NAME]: a FAT with or without a loader
		truncate -s "$2"M "$1"
		mkfs.vfat "$1" >/dev/null
		if [ $# -gt 2 ]; then
			mmd -i "$1" ::/EFI ::/EFI/BOOT
			mcopy -i "$1" "$3" "::/EFI/BOOT/$4"
		fi
	}
	disk() { # FILE MIB TABLE: partitions by sfdisk
		truncate -s "$2"M "$1"
		printf '%s\n' "$3" | sfdisk -q "$1" >/dev/null
	}
	into() { dd if="$2" of="$1" bs=1M seek="$3" conv=notrunc 2>/dev/null; }
	esp esp.img 33 $efi BOOTX64.EFI
	esp esp-empty.img 33
	esp esp-aa64.img 33 $efi BOOTAA64.EFI
	esp esp-riscv.img 33 $efi BOOTRISCV64.EFI
	esp esp-fat12.img 4 $efi BOOTX64.EFI
	G="label: gpt
start=2048, size=67584, type=uefi"
	for kind in img empty aa64 riscv; do
		name=gpt-$kind.raw
		disk $name 40 "$G"
		into $name "$([ $kind = img ] && echo esp.img || echo esp-$kind.img)" 1
	done
	t gpt-img.raw ready "disk image" uefi
	t gpt-empty.raw ready "disk image" none
	t gpt-aa64.raw ready "disk image" uefi
	t gpt-riscv.raw ready "disk image" uefi
	disk mbr-empty.raw 40 "label: dos
start=2048, size=67584, type=83"
	t mbr-empty.raw ready "disk image" none
	disk mbr-esp.raw 40 "label: dos
start=2048, size=67584, type=ef"
	into mbr-esp.raw esp.img 1
	t mbr-esp.raw ready "disk image" uefi
	disk mbr-esp-empty.raw 40 "label: dos
start=2048, size=67584, type=ef"
	into mbr-esp-empty.raw esp-empty.img 1
	t mbr-esp-empty.raw ready "disk image" none
	disk mbr-logical.raw 64 "label: dos
start=2048, size=20480, type=83
start=22528, size=106496, type=5
start=24576, size=40960, type=83
start=67584, size=40960, type=82"
	t mbr-logical.raw ready "disk image" none
	if [ -e /usr/lib/syslinux/mbr/mbr.bin ]; then
		disk mbr-code.raw 40 "label: dos
start=2048, size=67584, type=83, bootable"
		dd if=/usr/lib/syslinux/mbr/mbr.bin of=mbr-code.raw conv=notrunc 2>/dev/null
		t mbr-code.raw ready "disk image" none
		cp mbr-code.raw mbr-syslinux.raw
		if have syslinux; then
			esp sys.img 33
			syslinux --install sys.img 2>/dev/null && into mbr-syslinux.raw sys.img 1 && t mbr-syslinux.raw ready "disk image" bios
		fi
	fi
	disk gpt-blank.raw 40 "label: gpt"
	t gpt-blank.raw ready "disk image" none
	disk mbr-blank.raw 40 "label: dos"
	t mbr-blank.raw ready "disk image" none
	for n in 99 60 1; do
		cut_at gpt-img.raw $n && t cut$n-gpt-img.raw broken "disk image" -
	done
	flip gpt-img.raw 512 && t flip-gpt-img.raw broken "disk image" -
	cp gpt-img.raw no-backup.raw && dd if=/dev/zero of=no-backup.raw bs=512 seek=$((40 * 2048 - 33)) count=33 conv=notrunc 2>/dev/null
	t no-backup.raw broken "disk image" -
	cp esp.img superfloppy.img && t superfloppy.img ready "disk image" uefi
	cp esp-empty.img fat-empty.img && t fat-empty.img unknown "file system" -
	# A loader in a far folder, under a long name, and one that was deleted.
	esp deleted.img 33 $efi BOOTX64.EFI
	mdel -i deleted.img ::/EFI/BOOT/BOOTX64.EFI
	disk gpt-deleted.raw 40 "$G" && into gpt-deleted.raw deleted.img 1 && t gpt-deleted.raw ready "disk image" none
	esp elsewhere.img 33
	mmd -i elsewhere.img ::/EFI ::/EFI/vendor-with-a-long-name
	mcopy -i elsewhere.img $efi ::/EFI/vendor-with-a-long-name/bootx64.efi
	disk gpt-elsewhere.raw 40 "$G" && into gpt-elsewhere.raw elsewhere.img 1 && t gpt-elsewhere.raw ready "disk image" none
	esp many.img 33
	for n in $(seq 120); do echo "a long file name that takes room $n"; done >names
	mmd -i many.img ::/EFI ::/EFI/BOOT
	while read -r n; do : >"x"; mcopy -i many.img x "::/EFI/$n"; done <names
	mcopy -i many.img $efi ::/EFI/BOOT/bootx64.efi
	disk gpt-many.raw 40 "$G" && into gpt-many.raw many.img 1 && t gpt-many.raw ready "disk image" uefi
	if have sgdisk; then
		cp gpt-img.raw gpt-hybrid.raw && sgdisk -h 1 gpt-hybrid.raw >/dev/null 2>&1 && t gpt-hybrid.raw ready "disk image" uefi
	fi
fi

# Virtual disks of all kinds, of a disk that starts and of an empty one.
if have qemu-img && [ -e gpt-img.raw ]; then
	for f in qcow2 vmdk vdi vpc vhdx; do
		qemu-img convert -q -f raw -O $f gpt-img.raw full.$f && t full.$f ready "virtual disk" uefi
		qemu-img create -q -f $f blank.$f 64M && t blank.$f ready "virtual disk" none
		for n in 99 60 1; do
			cut_at full.$f $n && t cut$n-full.$f broken - -
		done
	done
	q() { qemu-img convert -q -f raw -O "$2" -o "$3" gpt-img.raw "$1"; }
	q old.qcow2 qcow2 compat=0.10 && t old.qcow2 ready "virtual disk" uefi
	q ext.qcow2 qcow2 extended_l2=on && t ext.qcow2 ready "virtual disk" uefi
	q big.qcow2 qcow2 cluster_size=2M && t big.qcow2 ready "virtual disk" uefi
	q small.qcow2 qcow2 cluster_size=512 && t small.qcow2 ready "virtual disk" uefi
	q full-pre.qcow2 qcow2 preallocation=falloc && t full-pre.qcow2 ready "virtual disk" uefi
	qemu-img convert -q -c -f raw -O qcow2 gpt-img.raw packed.qcow2 && t packed.qcow2 ready "virtual disk" uefi
	qemu-img convert -q -c -f raw -O qcow2 -o compression_type=zstd gpt-img.raw zpacked.qcow2 2>/dev/null && t zpacked.qcow2 ready "virtual disk" uefi
	qemu-img convert -q -f raw -O qcow2 -o data_file=apart.data,data_file_raw=on gpt-img.raw apart.qcow2 && t apart.qcow2 ready "virtual disk" uefi
	cp apart.qcow2 apart-alone.qcow2 && mkdir alone && mv apart-alone.qcow2 alone/ && t alone/apart-alone.qcow2 broken "virtual disk" -
	qemu-img create -q -f qcow2 -b full.qcow2 -F qcow2 change.qcow2 && t change.qcow2 ready "virtual disk" uefi
	cp change.qcow2 alone/change.qcow2 && t alone/change.qcow2 broken "virtual disk" -
	qemu-img create -q -f qcow2 --object secret,id=s,data=x -o encrypt.format=luks,encrypt.key-secret=s locked.qcow2 16M 2>/dev/null && t locked.qcow2 unknown "virtual disk" -
	for s in monolithicSparse monolithicFlat twoGbMaxExtentSparse twoGbMaxExtentFlat streamOptimized; do
		q $s.vmdk vmdk subformat=$s && t $s.vmdk ready "virtual disk" uefi
	done
	cp monolithicFlat.vmdk alone/ && t alone/monolithicFlat.vmdk broken "virtual disk" -
	cp twoGbMaxExtentSparse.vmdk alone/ && t alone/twoGbMaxExtentSparse.vmdk broken "virtual disk" -
	q fixed.vpc vpc subformat=fixed && t fixed.vpc ready "virtual disk" uefi
	q fixed.vdi vdi static=on && t fixed.vdi ready "virtual disk" uefi
	q fixed.vhdx vhdx subformat=fixed && t fixed.vhdx ready "virtual disk" uefi
	qemu-img convert -q -f raw -O qed gpt-img.raw other.qed 2>/dev/null && t other.qed unknown "virtual disk" -
	qemu-img convert -q -f raw -O parallels gpt-img.raw other.hdd 2>/dev/null && t other.hdd unknown "virtual disk" -
	qemu-img convert -q -f raw -O qcow gpt-img.raw first.qcow 2>/dev/null && t first.qcow unknown "virtual disk" -
	cp full.qcow2 dirty.qcow2 && printf '\002' | dd of=dirty.qcow2 bs=1 seek=79 conv=notrunc 2>/dev/null && t dirty.qcow2 broken "virtual disk" -
	l1=$(od -An -tu8 --endian=big -j40 -N8 full.qcow2 | tr -d ' ')
	flip full.qcow2 "$l1" && t flip-full.qcow2 broken "virtual disk" -
fi

# Optical images.
if have xorriso genisoimage; then
	mkdir -p tree/EFI/BOOT tree/boot && cp $efi tree/EFI/BOOT/BOOTX64.EFI && noise 300000 >tree/boot/data
	genisoimage -quiet -o plain.iso -V PLAIN tree && t plain.iso ready "optical image" none
	[ -e esp-fat12.img ] && cp esp-fat12.img tree/boot/efi.img && genisoimage -quiet -o uefi.iso -V UEFI -e boot/efi.img -no-emul-boot tree &&
		t uefi.iso ready "optical image" uefi
	esp tree/boot/empty.img 4 2>/dev/null && genisoimage -quiet -o uefi-empty.iso -e boot/empty.img -no-emul-boot tree &&
		t uefi-empty.iso ready "optical image" none
	rm -f tree/boot/empty.img tree/boot/efi.img
	if [ -e /usr/lib/ISOLINUX/isolinux.bin ]; then
		cp /usr/lib/ISOLINUX/isolinux.bin tree/boot/
		genisoimage -quiet -o bios.iso -b boot/isolinux.bin -c boot/boot.cat -no-emul-boot -boot-load-size 4 -boot-info-table tree && t bios.iso ready "optical image" bios
		for n in 99 60 1; do cut_at bios.iso $n && t cut$n-bios.iso broken - -; done
		head -c 2048 /dev/zero >tree/boot/nothing.bin
		genisoimage -quiet -o zero-boot.iso -b boot/nothing.bin -c boot/boot.cat -no-emul-boot -boot-load-size 4 tree && t zero-boot.iso ready "optical image" none
	fi
	xorriso -outdev joliet.iso -joliet on -map tree / -commit >/dev/null 2>&1 && t joliet.iso ready "optical image" none
	for n in 99 60 1; do [ -e uefi.iso ] && cut_at uefi.iso $n && t cut$n-uefi.iso broken - -; done
	genisoimage -quiet -udf -o udf.iso -V UDF tree && t udf.iso ready "optical image" none
	flip plain.iso 32768 && t flip-plain.iso broken - -
fi

# Packed.
if [ -e bios.iso ]; then
	for z in "gzip -k" "bzip2 -k" "xz -k" "zstd -q -k"; do
		set -- $z
		have "$1" || continue
		$z bios.iso
		e=$(ls -t bios.iso.* | head -1)
		mv "$e" "packed.${e##*.}" && t "packed.${e##*.}" ready "${e##*.}" -
		for n in 99 60 1; do cut_at "packed.${e##*.}" $n && t "cut$n-packed.${e##*.}" broken - -; done
	done
	zip -q store.zip bios.iso && t store.zip ready zip -
	zip -q -P secret locked.zip bios.iso && t locked.zip broken zip -
	tar cf one.tar bios.iso && t one.tar ready tar -
	for n in 99 60 1; do cut_at store.zip $n && t cut$n-store.zip broken - - && cut_at one.tar $n && t cut$n-one.tar broken - -; done
	have 7z && 7z a -bd other.7z bios.iso >/dev/null && t other.7z unknown 7z -
	have lz4 && lz4 -q bios.iso other.lz4 && t other.lz4 unknown lz4 -
	have lzip && lzip -c bios.iso >other.lz && t other.lz unknown lzip -
	xz -k --format=lzma -c bios.iso >other.lzma && t other.lzma unknown lzma -
	have cpio && echo bios.iso | cpio -o -H newc 2>/dev/null >other.cpio && t other.cpio unknown cpio -
	cat packed.gz >padded.gz 2>/dev/null && head -c 4096 /dev/zero >>padded.gz && t padded.gz ready gz -
fi

# What is no image at all.
printf '<!DOCTYPE html>\n<html><head><title>Download</title></head><body>Please log in.</body></html>\n' >page.iso && t page.iso unknown "web page" -
printf '{"error": "not found"}\n' >error.img && t error.img unknown - -
head -c 4000000 /dev/zero >zeros.img && t zeros.img unknown zeros -
noise 4000000 >noise.img && t noise.img unknown - -
head -c 1000000 /dev/zero | tr '\000' '\377' >ones.img && t ones.img unknown - -
: >empty.iso && t empty.iso broken empty -
printf 'just some words\n' >words.iso && t words.iso unknown - -
have mkfs.ext4 && truncate -s 16M fs.ext4 && mkfs.ext4 -q -L data fs.ext4 && t fs.ext4 unknown "file system" -
have mksquashfs && [ -d tree ] && mksquashfs tree fs.squashfs -quiet -no-progress >/dev/null && t fs.squashfs unknown "file system" -
have mkfs.btrfs && truncate -s 120M fs.btrfs && mkfs.btrfs -q fs.btrfs >/dev/null && t fs.btrfs unknown "file system" -
have mkfs.xfs && truncate -s 320M fs.xfs && mkfs.xfs -q fs.xfs >/dev/null && t fs.xfs unknown "file system" -
have mkfs.ntfs && truncate -s 16M fs.ntfs && mkfs.ntfs -q -F -f fs.ntfs >/dev/null 2>&1 && t fs.ntfs unknown "file system" -
cp /bin/true program.img && t program.img unknown program -
printf '%%PDF-1.7\n' >paper.iso && t paper.iso unknown - -
printf '\125\252\020' >rom.bin && head -c 8189 /dev/zero >>rom.bin && t rom.bin unknown ROM -
exec 3>&-

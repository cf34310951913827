# Runs the installer's own programs on an answer file, in namespaces of their own: nothing outside is changed.
#   installer.sh BASE SYSTEM PRESEED PROGRAMS [DHCP-NAME]
# BASE is the unpacked RAM disk; PROGRAMS are words of: language keyboard accounts name apply late who. For the last three
# SYSTEM is the installed one, below a layer that takes what is written.
# Each prints `PROGRAM: asked …` where a person would be asked, and what came of the answers.
set -eu
BASE=$1 SYSTEM=$2 PRESEED=$3 PROGRAMS=$4 DHCP_NAME=${5:-}
HERE=$(dirname "$0")
export BASE SYSTEM PRESEED PROGRAMS DHCP_NAME HERE
exec unshare --mount --pid --fork --net --uts --kill-child sh -euc '
mount -t proc proc /proc
ip link set lo up
echo "(none)" >/proc/sys/kernel/hostname
top=$(mktemp -d)
mount -t tmpfs tmpfs $top
if [ -n "$DHCP_NAME" ]; then
	ip link add v0 type veth peer name v1
	ip link set v0 up
	# A network of its own behind the other end, with a server that gives addresses and a name.
	unshare --net sh -euc "
		until ip link show v1 >/dev/null 2>&1; do sleep 0.1; done
		ip addr add 192.0.2.1/24 dev v1; ip link set v1 up
		printf \"start 192.0.2.20\nend 192.0.2.30\ninterface v1\nlease_file /dev/null\npidfile /dev/null\nopt subnet 255.255.255.0\nopt router 192.0.2.1\nopt dns 192.0.2.1\nopt hostname $DHCP_NAME\n\" >$top/udhcpd
		exec busybox udhcpd -f $top/udhcpd" 2>/dev/null &
	server=$!
	until [ "$(readlink /proc/$server/ns/net)" != "$(readlink /proc/self/ns/net)" ]; do sleep 0.1; done
	ip link set v1 netns $server
fi
mkdir $top/upper $top/work $top/root
mount -t overlay -o lowerdir="$BASE",upperdir=$top/upper,workdir=$top/work overlay $top/root
root=$top/root
mkdir -p $root/dev $root/proc $root/sys $root/var/lib/cdebconf $root/target
mount -t tmpfs tmpfs $root/dev
mknod -m 666 $root/dev/null c 1 3
mknod -m 666 $root/dev/urandom c 1 9
mknod -m 600 $root/dev/console c 1 3
mount -t proc proc $root/proc
mount -t sysfs -o ro sysfs $root/sys
case " $PROGRAMS " in *" apply "* | *" late "*)
	mkdir $top/target-upper $top/target-work
	mount -t overlay -o lowerdir="$SYSTEM",upperdir=$top/target-upper,workdir=$top/target-work overlay $root/target
	# The installer has written it by then.
	[ -e $root/target/etc/default/keyboard ] || printf "XKBMODEL=pc105\nXKBLAYOUT=us\nXKBVARIANT=\n" >$root/target/etc/default/keyboard
	# It would be fetched where it is missing.
	[ -e $root/target/etc/sudoers ] || : >$root/target/etc/sudoers
	# What a running system has beside its files.
	for folder in dev proc sys run tmp; do
		mkdir -p $root/target/$folder
		mount -t tmpfs tmpfs $root/target/$folder
	done
	mknod -m 666 $root/target/dev/null c 1 3
	mknod -m 666 $root/target/dev/urandom c 1 9
esac
mkdir -p $root/cdrom
[ -z "${MEDIA:-}" ] || mount --bind "$MEDIA" $root/cdrom
cp "$PRESEED" $root/preseed.cfg
cp "$HERE/installer-inside.sh" $root/inside.sh
env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin PROGRAMS="$PROGRAMS" chroot $root sh /inside.sh
' </dev/null

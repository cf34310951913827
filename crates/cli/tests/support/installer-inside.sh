# Inside the installer's RAM disk: reads the answers as it does itself, then runs its programs one after another.
cd /
: >/nothing
export DEBIAN_FRONTEND=noninteractive TERM=linux TERM_TYPE=virtual TERM_UTF8=yes TERM_FRAMEBUFFER=yes LANG=C.UTF-8
sh /lib/debian-installer-startup.d/S20templates >/dev/null 2>&1
sh /lib/debian-installer-startup.d/S30initrd-preseed </nothing >/dev/null 2>&1
# As the kernel's command line says it.
debconf-set debconf/priority critical
mkdir -p /etc/console-setup
export DEBIAN_FRONTEND=text

# Whether somebody was asked: the text form writes a question's title with a line below it.
asked() { grep -q -e '^Configuring d-i' -e '^Select ' -e '^Prompt: ' -e '^!! ' /said; }

run() {
	name=$1
	shift
	: >/said
	debconf -o d-i "$@" </nothing >/said 2>&1 &
	program=$! seconds=0
	# Some questions come again for ever when nobody answers.
	while kill -0 $program 2>/dev/null && [ $seconds -lt 60 ] && ! asked; do
		sleep 1
		seconds=$((seconds + 1))
	done
	if kill -9 $program 2>/dev/null; then
		asked && code=asked || code='took too long'
	else
		wait $program && code=0 || code=$?
		asked && code=asked
	fi
	if [ "$code" = asked ]; then
		echo "$name: asked $(grep -v -e '^$' -e '^-' /said | head -n 3 | tr '\n' ' ')"
	else
		echo "$name: code $code"
	fi
}

get() { echo "$1=$(debconf-get "$1")"; }

early=$(debconf-get preseed/early_command)
[ -z "$early" ] || debconf -o d-i /bin/preseed_command preseed/early_command </nothing >/dev/null 2>&1
for program in $PROGRAMS; do
	case $program in
	language)
		run language /var/lib/dpkg/info/localechooser.postinst configure
		get debian-installer/locale
		;;
	keyboard)
		run keyboard /var/lib/dpkg/info/console-setup-udeb.postinst configure
		grep '^XKB[LV]' /etc/default/keyboard 2>/dev/null
		;;
	apply) run apply /usr/lib/user-setup/user-setup-apply /target ;;
	who)
		while IFS=: read -r name _ id _ full _; do
			[ "$id" -ge 1000 ] && [ "$id" -lt 60000 ] || continue
			echo "account $name: ${full%%,*}: $(chroot /target id -nG "$name"): $(grep "^$name:" /target/etc/shadow | cut -d: -f2)"
		done </target/etc/passwd
		echo "root: $(grep ^root: /target/etc/shadow | cut -d: -f2)"
		;;
	late)
		# What the installer runs at its end, by its own list.
		run late /bin/preseed_command preseed/late_command
		sed 's/^/noted: /' /target/noted 2>/dev/null
		[ ! -L /target/etc/systemd/system/multi-user.target.wants/neatstack-first-start.service ] || echo "unit: enabled"
		find /target/root -maxdepth 1 -newer /preseed.cfg -type f | sed 's/^/left: /'
		;;
	accounts) run accounts /usr/lib/user-setup/user-setup-ask /target ;;
	name)
		run name /bin/netcfg
		echo "hostname=$(cat /etc/hostname)"
		;;
	esac
done

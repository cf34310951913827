# Timetable kiosks of Brackwater Ferries
# Neat Stack: erases = "yes"
lang nb_NO.UTF-8
keyboard --xlayouts='no'
timezone Europe/Oslo --utc
rootpw --lock
user --name=timetable --gecos=Timetable --groups=video,quay-screens --iscrypted --password=$6$kioskkiosk$9yWw0n3bqj0o8pYb7sJ1r4GkQ2dVh6mXf5cLzT8uEaKqPiRvNxBtHgSjDlFoWyUeCk1M2n3B4v5C6x7Z8a9Q0.
ignoredisk --only-use=mmcblk0
zerombr
clearpart --all --initlabel --disklabel=gpt --drives=mmcblk0
part /boot/efi --fstype=efi --size=256 --ondisk=mmcblk0
part / --fstype=ext4 --size=1024 --grow --ondisk=mmcblk0 --label=kiosk
bootloader --boot-drive=mmcblk0
reboot
%include /tmp/neatstack-name.ks
%pre --erroronfail
# Neat Stack: this machine
s=$(($(cat /sys/block/mmcblk0/size)/2048)) && [ $s -ge 8192 ] || exit 1
echo "network --hostname=kiosk-$(tr -dc a-z0-9 </dev/urandom | head -c 4)" >/tmp/neatstack-name.ks
%end
%pre --erroronfail
# Neat Stack: commands
set -e
# Say what it is
echo 'the quay"s kiosk # 1' >/dev/null
%end
%post --erroronfail
# Neat Stack: commands
set -e
printf '%s\n' "it's 100% & more" >/etc/issue.net
udevadm settle </dev/null >/dev/null 2>&1 3>&- &
%end

# Container crane
# Neat Stack: erases = "yes"
lang fr_CH.UTF-8
keyboard --xlayouts='ch (fr)','ch'
timezone Europe/Zurich --utc
network --bootproto=dhcp --device=eno1
rootpw --iscrypted $6$rounds=5000$lEOt4aQFvX/JshO2$oDw.cN14O2J/pm2FCvX0GEsAWn4QFHmtf9KuYiECjRUbXZ3ZVhibGwXlzPcHd4OG4JVISsgocsWK0/XFNs1hg0
user --name=operator-1 --groups=dialout --iscrypted --password=$6$rounds=5000$GiSRfryCOmn186gq$RX21ZTsyLLhmuFremp5hz2CjRHcNhXK0iPR/rwE6dYL91W2eQKmQjadimtfFylKwnSzLl5yI5fY1cDNMW8SZG/
ignoredisk --only-use=nvme0n1
zerombr
clearpart --all --initlabel --drives=nvme0n1
part /boot/efi --fstype=efi --size=300 --ondisk=nvme0n1
part /boot --fstype=ext4 --size=1024 --ondisk=nvme0n1
part / --fstype=ext4 --size=1024 --grow --ondisk=nvme0n1
bootloader --boot-drive=nvme0n1 --append="quiet isolcpus=2,3"
poweroff
%include /tmp/neatstack-name.ks
%packages --exclude-weakdeps
%end
%pre --erroronfail
# Neat Stack: this machine
s=$(($(cat /sys/block/nvme0n1/size)/2048)) && [ $s -ge 0 ] && { n=0; for d in /sys/block/*; do case $(readlink -f $d) in (*/virtual/*|*/usb*|*/session*|*/sr[0-9]*|*/fd[0-9]*|*boot[0-9]|*rpmb) ;; (*) [ $(cat $d/removable) -eq 1 ] || n=$((n+1)) ;; esac; done; [ $n -eq 1 ]; } || exit 1
echo "network --hostname=$(echo "crane-$(tr -cd A-Za-z0-9- </sys/class/dmi/id/product_serial | cut -c 1-40)" | sed 's/^-*//;s/-*$//;s/^$/machine/')" >/tmp/neatstack-name.ks
%end
%pre --erroronfail
# Neat Stack: commands
set -e
echo 'The crane is set up.' >/dev/console
%end
%post --erroronfail
# Neat Stack: commands
set -e
adduser operator-1 plugdev
%end
%post --nochroot --erroronfail
# Neat Stack: commands outside
set -e
cp /proc/cmdline /tmp/started-with
%end

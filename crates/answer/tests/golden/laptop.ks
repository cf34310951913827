# Classroom laptops
# Neat Stack: erases = "yes"
lang sr_RS@latin
keyboard --xlayouts='us'
timezone Europe/Belgrade --utc
network --bootproto=dhcp --device=link --essid="Class & Room" --wpakey="anchor & chain \"7\""
rootpw --lock
user --name=class --iscrypted --password=$6$rounds=5000$PXn2jkHutwrOQI47$YyTpHNTa5VFoaM6b5K737980gyJ8ohkoxYN2.P9r7ZNOEYvIOhUnLNnAxf4nSjQAzSuXDSDb3RZLQ6RUlK1xj0
ignoredisk --only-use=nvme0n1
zerombr
clearpart --all --initlabel --drives=nvme0n1
autopart --type=plain
bootloader --boot-drive=nvme0n1
%include /tmp/neatstack-name.ks
%pre --erroronfail
# Neat Stack: this machine
echo "network --hostname=$(echo "$(tr -cd A-Za-z0-9- </sys/class/dmi/id/product_serial | cut -c 1-40)" | sed 's/^-*//;s/-*$//;s/^$/machine/')" >/tmp/neatstack-name.ks
%end

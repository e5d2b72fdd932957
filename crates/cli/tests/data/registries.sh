# Lays out registries of Ruby, Go, Java and PHP in the folder `registries`, with one package each, as theirs are laid
# out. Runs inside, where their tools are.
set -e
top=$PWD/registries; mkdir $top
# A gem, its place in the compact index, and its specification as clients of rubygems ask for it.
mkdir -p $top/gems/gems $top/gems/info $top/gems/quick/Marshal.4.8 /tmp/gem/lib; cd /tmp/gem
echo 'module Tides; def self.low; "07:00"; end; end' > lib/tides.rb
cat > tides.gemspec <<'G'
Gem::Specification.new do |s|
  s.name = "tides"; s.version = "1.0.0"; s.summary = "Tides of the ferry"; s.authors = ["Brindle Ferry"]
  s.files = ["lib/tides.rb"]; s.license = "MIT"; s.homepage = "https://brindle.example"
end
G
gem build -q tides.gemspec
cp tides-1.0.0.gem $top/gems/gems/
ruby -rrubygems -rrubygems/package -rzlib -e '
  spec = Gem::Package.new("tides-1.0.0.gem").spec
  File.binwrite(ARGV[0], Zlib::Deflate.deflate(Marshal.dump(spec)))' $top/gems/quick/Marshal.4.8/tides-1.0.0.gemspec.rz
sum=$(sha256sum tides-1.0.0.gem | cut -d' ' -f1)
printf -- '---\n1.0.0 |checksum:%s\n' $sum > $top/gems/info/tides
printf 'created_at: 2026-01-01T00:00:00Z\n---\ntides 1.0.0 %s\n' $(md5sum < $top/gems/info/tides | cut -d' ' -f1) > $top/gems/versions
printf -- '---\ntides\n' > $top/gems/names
# A Go module, as a proxy has it.
v=$top/go/brindle.example/tides/@v; mkdir -p $v /tmp/go/brindle.example/tides@v1.0.0; cd /tmp/go
printf 'module brindle.example/tides\n\ngo 1.21\n' > brindle.example/tides@v1.0.0/go.mod
printf 'package tides\n\nfunc Low() string { return "07:00" }\n' > brindle.example/tides@v1.0.0/tides.go
cp brindle.example/tides@v1.0.0/go.mod $v/v1.0.0.mod
echo '{"Version":"v1.0.0","Time":"2026-01-01T00:00:00Z"}' > $v/v1.0.0.info
echo v1.0.0 > $v/list
zip -qr $v/v1.0.0.zip brindle.example/tides@v1.0.0
# Maven's: the plugins that Debian has, and an artifact of ours.
cp -rL /usr/share/maven-repo $top/maven
m=$top/maven/example/brindle/tides/1.0.0; mkdir -p $m /tmp/mvn; cd /tmp/mvn
echo low=07:00 > tides.properties; zip -q $m/tides-1.0.0.jar tides.properties
echo '<project><modelVersion>4.0.0</modelVersion><groupId>example.brindle</groupId><artifactId>tides</artifactId><version>1.0.0</version></project>' > $m/tides-1.0.0.pom
# Composer's.
mkdir -p $top/composer/p2/brindle $top/composer/dist /tmp/php; cd /tmp/php
echo '{"name":"brindle/tides","license":"MIT","autoload":{"files":["tides.php"]}}' > composer.json
echo '<?php function low() { return "07:00"; }' > tides.php
zip -q $top/composer/dist/tides-1.0.0.zip composer.json tides.php
echo '{"packages":[],"metadata-url":"https://php.brindle.example/p2/%package%.json"}' > $top/composer/packages.json
printf '{"packages":{"brindle/tides":[{"name":"brindle/tides","version":"1.0.0","dist":{"type":"zip","url":"https://php.brindle.example/dist/tides-1.0.0.zip","shasum":"%s"},"autoload":{"files":["tides.php"]},"license":["MIT"]}]}}' $(sha1sum < $top/composer/dist/tides-1.0.0.zip | cut -d' ' -f1) > $top/composer/p2/brindle/tides.json

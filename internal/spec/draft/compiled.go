package draft

import (
	"path"
	"regexp"
	"strings"

	"imbricat/internal/ground/say"
)

// Compiled programs: what is needed at run time is what the compiler leaves.

var mainPackage = regexp.MustCompile(`(?m)^package main\b`)

// goModule drafts a static program, from nothing at all.
func goModule(f *folder) *part {
	if !f.has("go.mod") {
		return nil
	}
	module, version := f.match("go.mod", `(?m)^module\s+(\S+)`), f.match("go.mod", `(?m)^(?:toolchain go|go )([0-9.]+)`)
	if newer := f.match("go.mod", `(?m)^toolchain go([0-9.]+)`); newer != "" {
		version = newer
	}
	var mains []string
	tls := false
	f.each([]string{".go"}, func(name, text string) bool {
		if strings.HasSuffix(name, "_test.go") {
			return false
		}
		if dir := "./" + path.Dir(name); word.MatchString(dir) && mainPackage.MatchString(text) && (len(mains) == 0 || mains[len(mains)-1] != dir) {
			mains = append(mains, dir)
		}
		tls = tls || strings.Contains(text, `"net/http"`) || strings.Contains(text, `"crypto/tls"`)
		return false
	})
	if len(mains) == 0 {
		return nil // a library
	}
	name := path.Base(module)
	target := strings.TrimSuffix(mains[0], "/.")
	if target != "." {
		name = path.Base(target)
	}
	p := &part{name: name, what: "Go program " + unitName(name), why: []string{"go.mod says module " + module + ", Go " + version, "package main in " + target}, here: true, foreign: true, base: "none # the program is static"}
	if len(mains) > 1 {
		p.why = append(p.why, say.Count(len(mains)-1, "more program")+", left out here: "+strings.Join(mains[1:], ", "))
	}
	p.bases = []Base{{Name: "go", Fact: "go_base", What: "an image with Go " + version + " or newer"}}
	sums := []string{"go.mod"}
	if f.has("go.sum") {
		sums = append(sums, "go.sum")
	}
	p.build = []string{
		"base: ${facts.go_base}",
		"machine: here # Go compiles for every platform on this one",
		"defaults: {working-dir: /src, env: {CGO_ENABLED: \"0\", GOOS: \"${platform.os}\", GOARCH: \"${platform.architecture}\"}}",
		"steps:",
		"  - copy: {from: " + f.from(sums...) + ", to: /src/} # first what says which modules are needed: they are fetched again when it changes alone",
		"  - run: go mod download",
		"    kept: &go # of which several builds may make use at once",
		"      go-modules: {at: /root/go/pkg/mod, hand-out: at-once}",
		"      go-build: {at: /root/.cache/go-build, hand-out: at-once}",
		"  - copy: {from: " + f.from(".") + ", to: /src}",
		"  - run: go build -trimpath -buildvcs=false -ldflags=-buildid= -o /out/" + p.unit() + " " + target,
		"    kept: *go",
		"    network: false",
	}
	p.steps = []string{"- take: {from: STAGE, paths: /out/" + p.unit() + ", to: /usr/bin/}"}
	if tls {
		p.steps = append(p.steps, "- take: {from: STAGE, paths: /etc/ssl/certs/ca-certificates.crt, to: /etc/ssl/certs/} # it speaks TLS, or may")
	}
	p.entry = []string{"/usr/bin/" + p.unit()}
	p.port, p.portIn = f.port(".go")
	return p
}

// unit is the name as files and images have it.
func (p *part) unit() string { return unitName(p.name) }

func rust(f *folder) *part {
	if !f.has("Cargo.toml") {
		return nil
	}
	name := f.match("Cargo.toml", `(?ms)^\[package\].*?^name\s*=\s*"([^"]+)"`)
	if bin := f.match("Cargo.toml", `(?ms)^\[\[bin\]\].*?^name\s*=\s*"([^"]+)"`); bin != "" {
		name = bin
	} else if name == "" || !f.below("src/main.rs") {
		return nil // a library, or a workspace whose members are found below
	}
	if !word.MatchString(name) {
		return nil
	}
	version := f.match("rust-toolchain.toml", `channel\s*=\s*"([^"]+)"`)
	if version == "" {
		version = strings.TrimSpace(f.text("rust-toolchain"))
	}
	if version == "" {
		version = f.match("Cargo.toml", `(?m)^rust-version\s*=\s*"([^"]+)"`)
	}
	p := &part{name: name, what: "Rust program " + name, why: []string{"Cargo.toml says " + name}, leave: []string{"target/"}, base: "${facts.run_base}"}
	locked := ""
	if f.has("Cargo.lock") {
		p.why, locked = append(p.why, "Cargo.lock"), " --locked"
	}
	p.bases = []Base{{Name: "rust", Fact: "rust_base", What: strings.TrimSpace("an image with cargo and Rust " + version)}, runBase("the C library that Rust's programs need")}
	p.build = []string{
		"base: ${facts.rust_base}",
		"steps:",
		"  - copy: {from: " + f.from(".") + ", to: /src}",
		"  - run: cargo build --release" + locked + " && mkdir -p /out && cp target/release/" + name + " /out/",
		"    working-dir: /src",
		"    kept: {cargo-registry: /usr/local/cargo/registry, cargo-target: /src/target}",
	}
	p.steps = []string{"- take: {from: STAGE, paths: /out/" + name + ", to: /usr/bin/}"}
	p.entry = []string{"/usr/bin/" + name}
	p.port, p.portIn = f.port(".rs")
	return p
}

func runBase(with string) Base {
	return Base{Name: "run", Fact: "run_base", What: "a small image with " + with}
}

func maven(f *folder) *part {
	if !f.has("pom.xml") {
		return nil
	}
	pom := regexp.MustCompile(`(?s)<parent>.*?</parent>`).ReplaceAllString(f.text("pom.xml"), "")
	group := func(pattern string) string {
		found := regexp.MustCompile(pattern).FindStringSubmatch(pom)
		if len(found) < 2 {
			return ""
		}
		return strings.TrimSpace(found[1])
	}
	if group(`<packaging>\s*(\w+)`) == "pom" {
		return nil // its modules are found below
	}
	name, version := group(`<artifactId>\s*([^<\s]+)`), group(`<(?:maven\.compiler\.release|java\.version|maven\.compiler\.target|release)>\s*([0-9.]+)`)
	tool := "mvn"
	why := []string{"pom.xml says " + name}
	manifests := []string{"pom.xml"}
	if f.has("mvnw") {
		tool, why, manifests = "./mvnw", append(why, "mvnw"), append(manifests, "mvnw")
	}
	wrapper := ""
	if f.below(".mvn") {
		wrapper = "  - copy: {from: " + f.from(".mvn") + ", to: /src/.mvn}"
	}
	p := javaPart(f, name, version, why)
	p.what, p.leave = "Java program "+name+", built by Maven", []string{"target/"}
	p.build = append(p.build, "  - copy: {from: "+f.from(manifests...)+", to: /src/, mode: keep} # first what says which libraries are needed")
	if wrapper != "" {
		p.build = append(p.build, wrapper)
	}
	p.build = append(p.build,
		"  - run: "+tool+" --batch-mode dependency:go-offline",
		"    kept: &maven {maven: /root/.m2/repository}",
		"  - copy: {from: "+f.from("src")+", to: /src/src}",
		"  - run: "+tool+" --batch-mode --offline package -DskipTests && mkdir -p /out && cp target/*.jar /out/",
		"    kept: *maven")
	return p
}

func gradle(f *folder) *part {
	file := f.first("build.gradle", "build.gradle.kts")
	settings := f.first("settings.gradle", "settings.gradle.kts")
	if file == "" {
		return nil
	}
	name := f.match(settings, `rootProject\.name\s*=\s*["']([^"']+)`)
	if name == "" {
		name = path.Base(f.dir)
	}
	version := f.match(file, `(?:JavaLanguageVersion\.of\(|sourceCompatibility\s*=\s*(?:JavaVersion\.VERSION_|["']?))([0-9.]+)`)
	why, tool := []string{file + " is there, and names " + name}, "gradle"
	if f.has("gradlew") {
		tool, why = "./gradlew", append(why, "gradlew")
	}
	p := javaPart(f, name, version, why)
	p.what, p.leave = "Java program "+name+", built by Gradle", []string{"build/", ".gradle/"}
	p.build = append(p.build,
		"  - copy: {from: "+f.from(".")+", to: /src, mode: keep}",
		"  - run: "+tool+" --no-daemon assemble && mkdir -p /out && cp build/libs/*.jar /out/",
		"    kept: {gradle: /root/.gradle}")
	return p
}

// javaPart is what Maven's and Gradle's projects have in common.
func javaPart(f *folder, name, version string, why []string) *part {
	if name == "" {
		name = path.Base(f.dir)
	}
	if version != "" {
		why = append(why, "Java "+version)
	}
	p := &part{name: name, why: why, base: "${facts.java_run_base}", foreign: true, here: true}
	p.bases = []Base{
		{Name: "java", Fact: "java_base", What: strings.TrimSpace("an image with a Java development kit " + version)},
		{Name: "java-run", Fact: "java_run_base", What: strings.TrimSpace("an image with a Java runtime " + version)},
	}
	p.build = []string{"base: ${facts.java_base}", "machine: here # classes are the same for every platform", "defaults: {working-dir: /src}", "steps:"}
	p.steps = []string{"- take: {from: STAGE, paths: /out/, to: /opt/" + p.unit() + "}"}
	p.entry = []string{"/bin/sh", "-c", "exec java -jar /opt/" + p.unit() + "/*.jar"}
	p.port, p.portIn = f.port(".properties", ".yml", ".java", ".kt")
	return p
}

func dotnet(f *folder) *part {
	projects := append(f.like("*.csproj"), f.like("*.fsproj")...)
	if len(projects) == 0 {
		return nil
	}
	file := projects[0]
	version := f.match(file, `<TargetFramework>\s*net([0-9.]+)`)
	name := strings.TrimSuffix(strings.TrimSuffix(file, ".csproj"), ".fsproj")
	assembly := f.match(file, `<AssemblyName>\s*([^<\s]+)`)
	if assembly == "" {
		assembly = name
	}
	web := strings.Contains(f.text(file), "Microsoft.NET.Sdk.Web")
	if !web && f.match(file, `<OutputType>\s*(\w+)`) != "Exe" {
		return nil // a library
	}
	p := &part{name: name, what: ".NET program " + name, why: []string{file + " says .NET " + version}, leave: []string{"bin/", "obj/"}, base: "${facts.dotnet_run_base}", here: true, foreign: true}
	p.bases = []Base{
		{Name: "dotnet", Fact: "dotnet_base", What: "an image with the .NET SDK " + version},
		{Name: "dotnet-run", Fact: "dotnet_run_base", What: "an image with the .NET runtime " + version},
	}
	p.build = []string{
		"base: ${facts.dotnet_base}",
		"machine: here # what is made is the same for every platform",
		"defaults: {working-dir: /src}",
		"steps:",
		"  - copy: {from: " + f.from(file) + ", to: /src/} # first what says which packages are needed",
		"  - run: dotnet restore",
		"    kept: &nuget {nuget: /root/.nuget/packages}",
		"  - copy: {from: " + f.from(".") + ", to: /src}",
		"  - run: dotnet publish --configuration Release --no-restore --output /out",
		"    kept: *nuget",
	}
	p.steps = []string{"- take: {from: STAGE, paths: /out/, to: /opt/" + p.unit() + "}"}
	p.entry, p.workDir = []string{"dotnet", "/opt/" + p.unit() + "/" + assembly + ".dll"}, "/opt/"+p.unit()
	if web {
		p.port, p.portIn = 8080, "the SDK for the web in "+file
	}
	return p
}

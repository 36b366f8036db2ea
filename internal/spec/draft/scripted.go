package draft

import (
	"path"
	"slices"
	"strings"
)

// Programs in languages that are run as they are: the packages that they need are brought in a stage, and taken from there.

// manifest is what is looked at of a package.json.
type manifest struct {
	Name            string
	Main            string
	Scripts         map[string]string
	Engines         map[string]string
	PackageManager  string
	Dependencies    map[string]string
	DevDependencies map[string]string
	Workspaces      any
}

// frontEnds are packages that make pages for browsers.
var frontEnds = []string{"vite", "react-scripts", "@angular/core", "@vue/cli-service", "parcel", "@sveltejs/kit", "gatsby"}

// servers are packages that answer requests.
var servers = []string{"express", "fastify", "koa", "@nestjs/core", "@hapi/hapi", "next", "hono"}

func anyOf(all map[string]string, names []string) string {
	for _, name := range names {
		if _, has := all[name]; has {
			return name
		}
	}
	return ""
}

func node(f *folder) *part {
	if !f.has("package.json") {
		return nil
	}
	var m manifest
	f.json("package.json", &m)
	if m.Workspaces != nil && m.Scripts["start"] == "" && m.Main == "" {
		return nil // its packages are found below
	}
	name := m.Name
	if name == "" {
		name = path.Base(f.dir)
	}
	version := strings.TrimLeft(m.Engines["node"], "^~>= v")
	if version == "" {
		version = strings.TrimLeft(strings.TrimSpace(f.text(".nvmrc")), "v")
	}
	p := &part{name: name, why: []string{"package.json says " + name}, leave: []string{"node_modules/", "dist/"}}
	if version != "" {
		p.why = append(p.why, "Node "+version)
	}
	p.bases = []Base{{Name: "node", Fact: "node_base", What: strings.TrimSpace("an image with Node.js " + version)}}
	lock, install, prune, run, kept := "", "npm install", "npm prune --omit=dev", "npm run ", "{npm: /root/.npm}"
	switch lock = f.first("pnpm-lock.yaml", "yarn.lock", "package-lock.json", "npm-shrinkwrap.json"); {
	case lock == "pnpm-lock.yaml" || strings.HasPrefix(m.PackageManager, "pnpm"):
		install, prune, run, kept = "corepack enable && pnpm install --frozen-lockfile", "pnpm prune --prod", "pnpm run ", "{pnpm: /root/.local/share/pnpm/store}"
	case lock == "yarn.lock" || strings.HasPrefix(m.PackageManager, "yarn"):
		install, prune, run, kept = "corepack enable && yarn install --frozen-lockfile", "yarn install --frozen-lockfile --production", "yarn run ", "{yarn: /usr/local/share/.cache/yarn}"
	case lock != "":
		install = "npm ci"
	}
	manifests := []string{"package.json"}
	if lock != "" {
		manifests, p.why = append(manifests, lock), append(p.why, lock)
	}
	if f.has(".npmrc") {
		manifests = append(manifests, ".npmrc")
	}
	p.build = []string{
		"base: ${facts.node_base}",
		"defaults: {working-dir: /src}",
		"steps:",
		"  - copy: {from: " + f.from(manifests...) + ", to: /src/} # first what says which packages are needed: they are fetched again when it changes alone",
		"  - run: " + install,
		"    kept: " + kept,
		"  - copy: {from: " + f.from(".") + ", to: /src}",
	}
	if m.Scripts["build"] != "" {
		p.build = append(p.build, "  - run: "+run+"build", "    network: false")
	}
	front, server := anyOf(merged(m.Dependencies, m.DevDependencies), frontEnds), anyOf(m.Dependencies, servers)
	if front != "" && server == "" && m.Scripts["build"] != "" {
		return pages(p, front)
	}
	p.what, p.base = "Node program "+name, "${facts.node_base}"
	if len(m.DevDependencies) > 0 {
		p.build = append(p.build, "  - run: "+prune+" # what only building needs goes")
	}
	p.steps = []string{"- take: {from: STAGE, paths: /src, to: /opt/" + p.unit() + "}"}
	p.workDir, p.env = "/opt/"+p.unit(), [][2]string{{"NODE_ENV", "production"}}
	words := strings.Fields(m.Scripts["start"])
	switch {
	case len(words) > 1 && words[0] == "node" && !strings.ContainsAny(m.Scripts["start"], "&|;$\"'"):
		p.entry = words
	case m.Scripts["start"] != "":
		p.entry = []string{"npm", "start"}
	case m.Main != "":
		p.entry = []string{"node", m.Main}
	case f.first("server.js", "index.js", "main.js") != "":
		p.entry = []string{"node", f.first("server.js", "index.js", "main.js")}
	}
	p.port, p.portIn = f.port(".js", ".mjs", ".cjs", ".ts")
	return p
}

func merged(all ...map[string]string) map[string]string {
	out := map[string]string{}
	for _, one := range all {
		for key, value := range one {
			out[key] = value
		}
	}
	return out
}

// pages is a front end: what is built is served as files.
func pages(p *part, front string) *part {
	p.what, p.why = "front end "+p.name, append(p.why, front+" makes pages")
	p.build = slices.Insert(p.build, 1, "machine: here # pages are the same for every platform")
	served(p, "STAGE", "/src/dist")
	return p
}

// served has files served by a small server of the base.
func served(p *part, stage, dir string) {
	p.base, p.foreign = "${facts.web_base}", true
	p.bases = append(p.bases, Base{Name: "web", Fact: "web_base", What: "an image with a server for files, such as busybox httpd"})
	if stage != "" {
		p.steps = append(p.steps, "- take: {from: "+stage+", paths: "+dir+", to: /srv/pages}")
	}
	p.entry, p.port, p.portIn = []string{"httpd", "-f", "-p", "8080", "-h", "/srv/pages"}, 8080, "the command above"
}

func python(f *folder) *part {
	file := f.first("pyproject.toml", "requirements.txt", "setup.py", "Pipfile")
	if file == "" {
		return nil
	}
	name := f.match("pyproject.toml", `(?m)^name\s*=\s*"([^"]+)"`)
	if name == "" && f.dir != "." {
		name = path.Base(f.dir)
	}
	version := strings.TrimSpace(f.text(".python-version"))
	if version == "" {
		version = f.match("pyproject.toml", `(?m)^(?:requires-python|python)\s*=\s*"[^0-9"]*([0-9.]+)`)
	}
	p := &part{name: name, what: strings.TrimSpace("Python program " + name), why: []string{file}, leave: []string{"__pycache__/", ".venv/", "venv/", "*.pyc"}, base: "${facts.python_base}"}
	if version != "" {
		p.why = append(p.why, "Python "+version)
	}
	p.bases = []Base{{Name: "python", Fact: "python_base", What: strings.TrimSpace("an image with Python " + version)}}
	manifests, install, kept := []string{file}, "/opt/venv/bin/pip install --requirement requirements.txt", "{pip: /root/.cache/pip}"
	switch {
	case f.has("uv.lock"):
		p.why, manifests = append(p.why, "uv.lock"), []string{"pyproject.toml", "uv.lock"}
		install, kept = "UV_PROJECT_ENVIRONMENT=/opt/venv uv sync --frozen --no-dev --no-install-project", "{uv: /root/.cache/uv}"
	case f.has("poetry.lock") || strings.Contains(f.text("pyproject.toml"), "[tool.poetry]"):
		p.why, manifests = append(p.why, "poetry"), []string{"pyproject.toml"}
		if f.has("poetry.lock") {
			manifests = append(manifests, "poetry.lock")
		}
		install, kept = ". /opt/venv/bin/activate && poetry install --only main --no-root --no-interaction", "{poetry: /root/.cache/pypoetry}"
	case file != "requirements.txt" && f.has("requirements.txt"):
		manifests = []string{"requirements.txt"}
	case file != "requirements.txt":
		manifests, install = []string{"."}, "/opt/venv/bin/pip install ."
	}
	p.build = []string{
		"base: ${facts.python_base}",
		"defaults: {working-dir: /src}",
		"steps:",
		"  - copy: {from: " + f.from(manifests...) + ", to: /src/} # first what says which packages are needed: they are fetched again when it changes alone",
		"  - run: [python3 -m venv /opt/venv, \"" + install + "\"]",
		"    kept: " + kept,
	}
	p.steps = []string{
		"- take: {from: STAGE, paths: /opt/venv, to: /opt/venv}",
		"- copy: {from: " + f.from(".") + ", to: /opt/" + p.unit() + "}",
	}
	p.workDir, p.env = "/opt/"+p.unit(), [][2]string{{"PATH", `"/opt/venv/bin:${base.env.PATH ?? \"/usr/local/bin:/usr/bin:/bin\"}"`}, {"PYTHONUNBUFFERED", `"1"`}}
	pythonStarts(f, p)
	return p
}

// pythonStarts finds what a Python program is started by.
func pythonStarts(f *folder, p *part) {
	needs := strings.ToLower(f.text("pyproject.toml") + f.text("requirements.txt"))
	main := f.first("main.py", "app.py", "wsgi.py", "asgi.py", "server.py", "__main__.py")
	module := strings.TrimSuffix(main, ".py")
	switch {
	case f.has("manage.py") && strings.Contains(needs, "gunicorn"):
		p.entry, p.port, p.portIn = []string{"gunicorn", "--bind", "0.0.0.0:8000", p.unit() + ".wsgi"}, 8000, "the command above"
	case f.has("manage.py"):
		p.entry, p.port, p.portIn = []string{"python3", "manage.py", "runserver", "0.0.0.0:8000"}, 8000, "the command above"
	case main != "" && (strings.Contains(needs, "fastapi") || strings.Contains(needs, "uvicorn")):
		p.entry, p.port, p.portIn = []string{"uvicorn", "--host", "0.0.0.0", "--port", "8000", module + ":app"}, 8000, "the command above"
	case main != "" && strings.Contains(needs, "gunicorn"):
		p.entry, p.port, p.portIn = []string{"gunicorn", "--bind", "0.0.0.0:8000", module + ":app"}, 8000, "the command above"
	case main != "":
		p.entry = []string{"python3", main}
		p.port, p.portIn = f.port(".py")
	}
}

func ruby(f *folder) *part {
	if !f.has("Gemfile") {
		return nil
	}
	version := strings.TrimSpace(strings.TrimPrefix(f.text(".ruby-version"), "ruby-"))
	if version == "" {
		version = f.match("Gemfile", `(?m)^ruby ["']([0-9.]+)`)
	}
	p := &part{what: "Ruby program", why: []string{"Gemfile"}, base: "${facts.ruby_base}", leave: []string{".bundle/", "vendor/bundle/", "tmp/"}}
	if version != "" {
		p.why = append(p.why, "Ruby "+version)
	}
	p.bases = []Base{{Name: "ruby", Fact: "ruby_base", What: strings.TrimSpace("an image with Ruby " + version)}}
	manifests := []string{"Gemfile"}
	if f.has("Gemfile.lock") {
		manifests = append(manifests, "Gemfile.lock")
	}
	p.build = []string{
		"base: ${facts.ruby_base}",
		"defaults: {working-dir: /src, env: {BUNDLE_PATH: /opt/bundle, BUNDLE_WITHOUT: \"development:test\"}}",
		"steps:",
		"  - copy: {from: " + f.from(manifests...) + ", to: /src/}",
		"  - run: bundle install",
		"    kept: {gems: /root/.bundle/cache}",
	}
	dir := "/opt/app"
	p.steps = []string{"- take: {from: STAGE, paths: /opt/bundle, to: /opt/bundle}", "- copy: {from: " + f.from(".") + ", to: " + dir + "}"}
	p.workDir, p.env = dir, [][2]string{{"BUNDLE_PATH", "/opt/bundle"}, {"BUNDLE_WITHOUT", "development:test"}}
	switch {
	case f.below("bin/rails"):
		p.entry, p.port, p.portIn = []string{"bundle", "exec", "rails", "server", "--binding", "0.0.0.0", "--port", "3000"}, 3000, "the command above"
	case f.has("config.ru"):
		p.entry, p.port, p.portIn = []string{"bundle", "exec", "rackup", "--host", "0.0.0.0", "--port", "9292"}, 9292, "the command above"
	case f.first("app.rb", "main.rb") != "":
		p.entry = []string{"bundle", "exec", "ruby", f.first("app.rb", "main.rb")}
	}
	return p
}

func php(f *folder) *part {
	if !f.has("composer.json") && !f.has("index.php") {
		return nil
	}
	var m struct {
		Name    string
		Require map[string]string
	}
	f.json("composer.json", &m)
	version := strings.TrimLeft(m.Require["php"], "^~>= ")
	p := &part{name: m.Name, what: "PHP program", why: []string{f.first("composer.json", "index.php")}, leave: []string{"vendor/"}, base: "${facts.php_base}"}
	if version != "" {
		p.why = append(p.why, "PHP "+version)
	}
	p.bases = []Base{{Name: "php", Fact: "php_base", What: strings.TrimSpace("an image with PHP " + version)}}
	if f.has("composer.json") {
		manifests := []string{"composer.json"}
		if f.has("composer.lock") {
			manifests = append(manifests, "composer.lock")
		}
		p.bases = append(p.bases, Base{Name: "composer", Fact: "composer_base", What: "an image with PHP and composer"})
		p.build = []string{
			"base: ${facts.composer_base}",
			"defaults: {working-dir: /src}",
			"steps:",
			"  - copy: {from: " + f.from(manifests...) + ", to: /src/}",
			"  - run: composer install --no-dev --no-scripts --no-interaction --optimize-autoloader",
			"    kept: {composer: /root/.composer/cache}",
		}
		p.steps = append(p.steps, "- take: {from: STAGE, paths: /src/vendor, to: /opt/app/vendor}")
	}
	p.steps = append(p.steps, "- copy: {from: "+f.from(".")+", to: /opt/app}")
	root := "/opt/app"
	if f.below("public/index.php") {
		root += "/public"
	}
	p.workDir, p.entry, p.port, p.portIn = "/opt/app", []string{"php", "-S", "0.0.0.0:8080", "-t", root}, 8080, "the command above"
	return p
}

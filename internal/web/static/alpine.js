(() => {
  var bt = !1,
    vt = !1,
    K = [],
    wt = -1,
    Fe = !1,
    At = !1;
  function wr(e) {
    _n(e);
  }
  function Ar() {
    At = !0;
  }
  function Or() {
    ((At = !1), Sr());
  }
  function _n(e) {
    (K.includes(e) || (K.push(e), e._x_schedulerPriority !== void 0 && (Fe = !0)), Sr());
  }
  function he(e) {
    let t = K.indexOf(e);
    t !== -1 && t > wt && K.splice(t, 1);
  }
  function Sr() {
    if (!vt && !bt) {
      if (At) return;
      ((bt = !0), queueMicrotask(gn));
    }
  }
  function gn() {
    ((bt = !1), (vt = !0));
    for (let e = 0; e < K.length; e++) (Fe && yn(e), K[e](), (wt = e));
    ((K.length = 0), (wt = -1), (Fe = !1), (vt = !1));
  }
  function yn(e) {
    let t = new Map(),
      r = K.slice(e).sort((i, n) => xn(i, n, t));
    for (let i = 0; i < r.length; i++) K[e + i] = r[i];
    Fe = !1;
  }
  function xn(e, t, r) {
    return Et(e)
      ? Et(t)
        ? vr(e._x_schedulerPriority.el, r) - vr(t._x_schedulerPriority.el, r) || e._x_schedulerPriority.order - t._x_schedulerPriority.order
        : -1
      : Et(t)
        ? 1
        : 0;
  }
  function Et(e) {
    return e._x_schedulerPriority !== void 0;
  }
  function vr(e, t) {
    if (t.has(e)) return t.get(e);
    let r = 0,
      i = e;
    for (; e;)
      (r++,
        e._x_teleportBack
          ? (e = e._x_teleportBack)
          : typeof ShadowRoot == "function" && e.parentNode instanceof ShadowRoot
            ? (e = e.parentNode.host)
            : (e = e.parentElement));
    return (t.set(i, r), r);
  }
  var D,
    j,
    q,
    St,
    En = 0,
    Ot = !0;
  function Nr(e) {
    ((Ot = !1), e(), (Ot = !0));
  }
  function Tr(e) {
    ((D = e.reactive),
      (q = e.release),
      (j = (t) =>
        e.effect(t, {
          scheduler: (r) => {
            Ot ? wr(r) : r();
          },
        })),
      (St = e.raw));
  }
  function Nt(e) {
    j = e;
  }
  function Cr(e) {
    let t = () => {};
    return [
      (i, n) => {
        let s = n?.priority === "structural" ? En++ : void 0,
          o = j(i);
        return (
          s !== void 0 && o !== void 0 && (o._x_schedulerPriority = { el: e, order: s }),
          e._x_effects ||
            ((e._x_effects = new Set()),
            (e._x_runEffects = () => {
              e._x_effects.forEach((a) => a());
            })),
          e._x_effects.add(o),
          (t = () => {
            o !== void 0 && (e._x_effects.delete(o), q(o));
          }),
          o
        );
      },
      () => {
        t();
      },
    ];
  }
  function $e(e, t) {
    let r = !0,
      i,
      n,
      s = j(() => {
        let o = e(),
          a = JSON.stringify(o);
        if (!r && (typeof o == "object" || o !== i)) {
          let c = typeof i == "object" ? JSON.parse(n) : i;
          queueMicrotask(() => {
            t(o, c);
          });
        }
        ((i = o), (n = a), (r = !1));
      });
    return () => {
      (he(s), q(s));
    };
  }
  async function Rr(e) {
    Ar();
    try {
      (await e(), await Promise.resolve());
    } finally {
      Or();
    }
  }
  var kr = [],
    Dr = [],
    Pr = [];
  function Ir(e) {
    Pr.push(e);
  }
  function me(e, t) {
    typeof t == "function" ? (e._x_cleanups || (e._x_cleanups = []), e._x_cleanups.push(t)) : ((t = e), Dr.push(t));
  }
  function He(e) {
    kr.push(e);
  }
  function Be(e, t, r) {
    (e._x_attributeCleanups || (e._x_attributeCleanups = {}),
      e._x_attributeCleanups[t] || (e._x_attributeCleanups[t] = []),
      e._x_attributeCleanups[t].push(r));
  }
  function Tt(e, t) {
    e._x_attributeCleanups &&
      Object.entries(e._x_attributeCleanups).forEach(([r, i]) => {
        (t === void 0 || t.includes(r)) && (i.forEach((n) => n()), delete e._x_attributeCleanups[r]);
      });
  }
  function Mr(e) {
    for (e._x_effects?.forEach(he); e._x_cleanups?.length;) e._x_cleanups.pop()();
  }
  var Ke = new MutationObserver(qe),
    Ct = !1;
  function Oe() {
    (Ke.observe(document, { subtree: !0, childList: !0, attributes: !0, attributeOldValue: !0 }), (Ct = !0));
  }
  function Rt() {
    (bn(), Ke.disconnect(), (Ct = !1));
  }
  var te = [];
  function bn() {
    let e = Ke.takeRecords();
    te.push(() => e.length > 0 && qe(e));
    let t = te.length;
    queueMicrotask(() => {
      if (te.length === t) for (; te.length > 0;) te.shift()();
    });
  }
  function Lr() {
    for (; te.length > 0;) te.shift()();
    let e = Ke.takeRecords();
    e.length > 0 && qe(e);
  }
  function _(e) {
    if (!Ct) return e();
    Rt();
    try {
      return e();
    } finally {
      Oe();
    }
  }
  var kt = !1,
    Ve = [];
  function Ur() {
    kt = !0;
  }
  function jr() {
    ((kt = !1), qe(Ve), (Ve = []));
  }
  function qe(e) {
    if (kt) {
      Ve = Ve.concat(e);
      return;
    }
    let t = [],
      r = new Set(),
      i = new Map(),
      n = new Map();
    for (let s = 0; s < e.length; s++)
      if (
        !e[s].target._x_ignoreMutationObserver &&
        (e[s].type === "childList" &&
          (e[s].removedNodes.forEach((o) => {
            o.nodeType === 1 && o._x_marker && r.add(o);
          }),
          e[s].addedNodes.forEach((o) => {
            if (o.nodeType === 1) {
              if (r.has(o)) {
                r.delete(o);
                return;
              }
              o._x_marker || t.push(o);
            }
          })),
        e[s].type === "attributes")
      ) {
        let o = e[s].target,
          a = e[s].attributeName,
          c = e[s].oldValue,
          l = () => {
            (i.has(o) || i.set(o, []), i.get(o).push({ name: a, value: o.getAttribute(a) }));
          },
          u = () => {
            (n.has(o) || n.set(o, []), n.get(o).push(a));
          };
        o.hasAttribute(a) && c === null ? l() : o.hasAttribute(a) ? (u(), l()) : u();
      }
    (n.forEach((s, o) => {
      Tt(o, s);
    }),
      i.forEach((s, o) => {
        kr.forEach((a) => a(o, s));
      }));
    for (let s of r) t.some((o) => o.contains(s)) || Dr.forEach((o) => o(s));
    for (let s of t) s.isConnected && Pr.forEach((o) => o(s));
    ((t = null), (r = null), (i = null), (n = null));
  }
  function ze(e) {
    return P(z(e));
  }
  function F(e, t, r) {
    return (
      (e._x_dataStack = [t, ...z(r || e)]),
      () => {
        e._x_dataStack = e._x_dataStack.filter((i) => i !== t);
      }
    );
  }
  function z(e) {
    return e._x_dataStack
      ? e._x_dataStack
      : typeof ShadowRoot == "function" && e instanceof ShadowRoot
        ? z(e.host)
        : e.parentNode
          ? z(e.parentNode)
          : [];
  }
  function P(e) {
    return new Proxy({ objects: e }, vn);
  }
  function Fr(e, t) {
    return e === null || e === Object.prototype ? null : Object.prototype.hasOwnProperty.call(e, t) ? e : Fr(Object.getPrototypeOf(e), t);
  }
  var vn = {
    ownKeys({ objects: e }) {
      return Array.from(new Set(e.flatMap((t) => Object.keys(t))));
    },
    has({ objects: e }, t) {
      return t == Symbol.unscopables ? !1 : e.some((r) => Object.prototype.hasOwnProperty.call(r, t) || Reflect.has(r, t));
    },
    get({ objects: e }, t, r) {
      return t == "toJSON" ? wn : Reflect.get(e.find((i) => Reflect.has(i, t)) || {}, t, r);
    },
    set({ objects: e }, t, r, i) {
      let n;
      for (let o of e) if (((n = Fr(o, t)), n)) break;
      n || (n = e[e.length - 1]);
      let s = Object.getOwnPropertyDescriptor(n, t);
      return s?.set && s?.get ? s.set.call(i, r) || !0 : Reflect.set(n, t, r);
    },
  };
  function wn() {
    return Reflect.ownKeys(this).reduce((t, r) => ((t[r] = Reflect.get(this, r)), t), {});
  }
  function _e(e, t = () => {}) {
    let r = (n) => typeof n == "object" && !Array.isArray(n) && n !== null,
      i = (n, s = "") => {
        Object.entries(Object.getOwnPropertyDescriptors(n)).forEach(([o, { value: a, enumerable: c }]) => {
          if (c === !1 || a === void 0 || (typeof a == "object" && a !== null && a.__v_skip)) return;
          let l = s === "" ? o : `${s}.${o}`;
          typeof a == "object" && a !== null && a._x_interceptor
            ? (n[o] = a.initialize(e, l, o, t))
            : r(a) && a !== n && !(a instanceof Element) && i(a, l);
        });
      };
    return i(e);
  }
  function We(e, t = () => {}) {
    let r = {
      initialValue: void 0,
      _x_interceptor: !0,
      initialize(i, n, s, o) {
        return e(
          this.initialValue,
          () => An(i, n),
          (a) => Dt(i, n, a),
          n,
          s,
          o,
        );
      },
    };
    return (
      t(r),
      (i) => {
        if (typeof i == "object" && i !== null && i._x_interceptor) {
          let n = r.initialize.bind(r);
          r.initialize = (s, o, a, c) => {
            let l = i.initialize(s, o, a, c);
            return ((r.initialValue = l), n(s, o, a, c));
          };
        } else r.initialValue = i;
        return r;
      }
    );
  }
  function An(e, t) {
    return t.split(".").reduce((r, i) => r[i], e);
  }
  function Dt(e, t, r) {
    if ((typeof t == "string" && (t = t.split(".")), t.length === 1)) e[t[0]] = r;
    else {
      if (t.length === 0) throw error;
      return (e[t[0]] || (e[t[0]] = {}), Dt(e[t[0]], t.slice(1), r));
    }
  }
  var $r = {};
  function v(e, t) {
    $r[e] = t;
  }
  function X(e, t) {
    let r = On(t);
    return (
      Object.entries($r).forEach(([i, n]) => {
        Object.defineProperty(e, `$${i}`, {
          get() {
            return n(t, r);
          },
          enumerable: !1,
        });
      }),
      e
    );
  }
  function On(e) {
    let [t, r] = Pt(e),
      i = { interceptor: We, ...t };
    return (me(e, r), i);
  }
  function It(e, t, r, ...i) {
    try {
      return r(...i);
    } catch (n) {
      re(n, e, t);
    }
  }
  function re(...e) {
    return Vr(...e);
  }
  var Vr = Sn;
  function Hr(e) {
    Vr = e;
  }
  function Sn(e, t, r = void 0) {
    ((e = Object.assign(e ?? { message: "No error message given." }, { el: t, expression: r })),
      console.warn(
        `Alpine Expression Error: ${e.message}

${
  r
    ? 'Expression: "' +
      r +
      `"

`
    : ""
}`,
        t,
      ),
      setTimeout(() => {
        throw e;
      }, 0));
  }
  var Z = !0;
  function Ge(e) {
    let t = Z;
    Z = !1;
    let r = e();
    return ((Z = t), r);
  }
  function I(e, t, r = {}) {
    let i;
    return (b(e, t)((n) => (i = n), r), i);
  }
  function b(...e) {
    return Br(...e);
  }
  var Br = () => {};
  function Kr(e) {
    Br = e;
  }
  var qr;
  function zr(e) {
    qr = e;
  }
  function Wr(e, t) {
    return (r = () => {}, { scope: i = {}, params: n = [], context: s } = {}) => {
      if (!Z) {
        Mt(r, t, P([i, ...e]), n);
        return;
      }
      let o = t.apply(P([i, ...e]), n);
      Mt(r, o);
    };
  }
  function Mt(e, t, r, i, n) {
    if (Z && typeof t == "function") {
      let s = t.apply(r, i);
      s instanceof Promise ? s.then((o) => Mt(e, o, r, i)).catch((o) => re(o, n, t)) : e(s);
    } else typeof t == "object" && t instanceof Promise ? t.then((s) => e(s)) : e(t);
  }
  function Gr(...e) {
    return qr(...e);
  }
  var jt = "x-";
  function R(e = "") {
    return jt + e;
  }
  function Yr(e) {
    jt = e;
  }
  var Ye = {};
  function h(e, t) {
    return (
      (Ye[e] = t),
      {
        before(r) {
          if (!Ye[r]) {
            console.warn(String.raw`Cannot find directive \`${r}\`. \`${e}\` will use the default order of execution`);
            return;
          }
          let i = ie.indexOf(r);
          ie.splice(i >= 0 ? i : ie.indexOf("DEFAULT"), 0, e);
        },
      }
    );
  }
  function Jr(e) {
    return Object.keys(Ye).includes(e);
  }
  function ne(e, t, r) {
    if (((t = Array.from(t)), e._x_virtualDirectives)) {
      let s = Object.entries(e._x_virtualDirectives).map(([a, c]) => ({ name: a, value: c })),
        o = Ft(s);
      ((s = s.map((a) => (o.find((c) => c.name === a.name) ? { name: `x-bind:${a.name}`, value: `"${a.value}"` } : a))), (t = t.concat(s)));
    }
    let i = {};
    return t
      .map(Qr((s, o) => (i[s] = o)))
      .filter(ti)
      .map(Tn(i, r))
      .sort(Cn)
      .map((s) => Nn(e, s));
  }
  function Ft(e) {
    return Array.from(e)
      .map(Qr())
      .filter((t) => !ti(t));
  }
  var Lt = !1,
    Se = new Map(),
    Xr = Symbol();
  function Zr(e) {
    Lt = !0;
    let t = Symbol();
    ((Xr = t), Se.set(t, []));
    let r = () => {
        for (; Se.get(t).length;) Se.get(t).shift()();
        Se.delete(t);
      },
      i = () => {
        ((Lt = !1), r());
      };
    (e(r), i());
  }
  function Pt(e) {
    let t = [],
      r = (a) => t.push(a),
      [i, n] = Cr(e);
    return (
      t.push(n),
      [{ Alpine: W, effect: i, cleanup: r, evaluateLater: b.bind(b, e), evaluate: I.bind(I, e) }, () => t.forEach((a) => a())]
    );
  }
  function Nn(e, t) {
    let r = () => {},
      i = Ye[t.type] || r,
      [n, s] = Pt(e);
    Be(e, t.original, s);
    let o = () => {
      e._x_ignore || e._x_ignoreSelf || (i.inline && i.inline(e, t, n), (i = i.bind(i, e, t, n)), Lt ? Se.get(Xr).push(i) : i());
    };
    return ((o.runCleanups = s), o);
  }
  var Je =
      (e, t) =>
      ({ name: r, value: i }) => (r.startsWith(e) && (r = r.replace(e, t)), { name: r, value: i }),
    Xe = (e) => e;
  function Qr(e = () => {}) {
    return ({ name: t, value: r }) => {
      let { name: i, value: n } = ei.reduce((s, o) => o(s), { name: t, value: r });
      return (i !== t && e(i, t), { name: i, value: n });
    };
  }
  var ei = [];
  function ge(e) {
    ei.push(e);
  }
  function ti({ name: e }) {
    return ri().test(e);
  }
  var ri = () => new RegExp(`^${jt}([^:^.]+)\\b`);
  function Tn(e, t) {
    return ({ name: r, value: i }) => {
      r === i && (i = "");
      let n = r.match(ri()),
        s = r.match(/:([a-zA-Z0-9\-_:]+)/),
        o = r.match(/\.[^.\]]+(?=[^\]]*$)/g) || [],
        a = t || e[r] || r;
      return { type: n ? n[1] : null, value: s ? s[1] : null, modifiers: o.map((c) => c.replace(".", "")), expression: i, original: a };
    };
  }
  var Ut = "DEFAULT",
    ie = ["ignore", "ref", "id", "data", "anchor", "bind", "init", "for", "model", "modelable", "transition", "show", "if", Ut, "teleport"];
  function Cn(e, t) {
    let r = ie.indexOf(e.type) === -1 ? Ut : e.type,
      i = ie.indexOf(t.type) === -1 ? Ut : t.type;
    return ie.indexOf(r) - ie.indexOf(i);
  }
  function $(e, t) {
    if (typeof ShadowRoot == "function" && e instanceof ShadowRoot) {
      Array.from(e.children).forEach((n) => $(n, t));
      return;
    }
    let r = !1;
    if ((t(e, () => (r = !0)), r)) return;
    let i = e.firstElementChild;
    for (; i;) ($(i, t, !1), (i = i.nextElementSibling));
  }
  var V = !1;
  function O(e, t = () => {}) {
    return (...r) => (V ? t(...r) : e(...r));
  }
  function ii(e) {
    return (...t) => V && e(...t);
  }
  var ni = [];
  function H(e) {
    ni.push(e);
  }
  function si(e, t) {
    (ni.forEach((r) => r(e, t)),
      (V = !0),
      ai(() => {
        S(t, (r, i) => {
          i(r, () => {});
        });
      }),
      (V = !1));
  }
  var Ze = !1;
  function oi(e, t) {
    (t._x_dataStack || (t._x_dataStack = e._x_dataStack),
      (V = !0),
      (Ze = !0),
      ai(() => {
        Rn(t);
      }),
      (V = !1),
      (Ze = !1));
  }
  function Rn(e) {
    let t = !1;
    S(e, (i, n) => {
      $(i, (s, o) => {
        if (t && ci(s)) return o();
        ((t = !0), n(s, o));
      });
    });
  }
  function ai(e) {
    let t = j;
    (Nt((r, i) => {
      let n = t(r);
      return (q(n), () => {});
    }),
      e(),
      Nt(t));
  }
  var Qe = 0;
  function li(e, t) {
    let r = e._x_deferInit;
    (r ||
      ((r = e._x_deferInit = { pending: 0, ownsIgnore: !e._x_ignore, queuedAttributes: new Map() }),
      r.ownsIgnore && (e._x_ignore = !0),
      Qe++),
      r.pending++,
      Promise.resolve(t)
        .catch((i) => {
          try {
            re(i, e);
          } catch (n) {
            setTimeout(() => {
              throw n;
            }, 0);
          }
        })
        .then(() => kn(e, r)));
  }
  function kn(e, t) {
    (t.pending--,
      !(t.pending > 0) &&
        (Lr(),
        !(t.pending > 0) &&
          e._x_deferInit === t &&
          (delete e._x_deferInit, t.ownsIgnore && delete e._x_ignore, Qe--, e.isConnected && (Dn(t), S(e)))));
  }
  function ui(e, t) {
    if (Qe === 0) return !1;
    let r = N(e, (i) => i._x_deferInit);
    return r
      ? (fi(
          r._x_deferInit,
          e,
          t.map(({ name: i }) => i),
        ),
        !0)
      : !1;
  }
  function fi(e, t, r) {
    let i = e.queuedAttributes.get(t);
    ((!i || i.marker !== t._x_marker) && ((i = { marker: t._x_marker, names: new Set() }), e.queuedAttributes.set(t, i)),
      r.forEach((n) => i.names.add(n)));
  }
  function Dn(e) {
    e.queuedAttributes.forEach((t, r) => {
      if (!r.isConnected || !r._x_marker || r._x_marker !== t.marker) return;
      let i = N(r, (s) => s._x_deferInit);
      if (i) {
        fi(i._x_deferInit, r, Array.from(t.names));
        return;
      }
      let n = Array.from(t.names)
        .filter((s) => r.hasAttribute(s))
        .map((s) => ({ name: s, value: r.getAttribute(s) }));
      n.length !== 0 && ne(r, n).forEach((s) => s());
    });
  }
  H((e, t) => {
    Qe !== 0 && (!e || e.nodeType !== 1 || !t || t.nodeType !== 1 || (N(e, (r) => r._x_deferInit) && (t._x_ignore = !0)));
  });
  function se(e, t, r = {}, i = {}) {
    return e.dispatchEvent(new CustomEvent(t, { detail: r, bubbles: !0, composed: !0, cancelable: !0, ...i }));
  }
  function T(e, ...t) {
    console.warn(`Alpine Warning: ${e}`, ...t);
  }
  var pi = !1;
  function di() {
    (pi && T("Alpine has already been initialized on this page. Calling Alpine.start() more than once can cause problems."),
      (pi = !0),
      document.body ||
        T(
          "Unable to initialize. Trying to load Alpine before `<body>` is available. Did you forget to add `defer` in Alpine's `<script>` tag?",
        ),
      se(document, "alpine:init"),
      se(document, "alpine:initializing"),
      Oe(),
      Ir((t) => S(t, $)),
      me((t) => k(t)),
      He((t, r) => {
        ui(t, r) || ne(t, r).forEach((i) => i());
      }));
    let e = (t) => !oe(t.parentElement, !0);
    (Array.from(document.querySelectorAll(_i().join(",")))
      .filter(e)
      .forEach((t) => {
        S(t);
      }),
      se(document, "alpine:initialized"),
      setTimeout(() => {
        In();
      }));
  }
  var $t = [],
    hi = [];
  function mi() {
    return $t.map((e) => e());
  }
  function _i() {
    return $t.concat(hi).map((e) => e());
  }
  function et(e) {
    $t.push(e);
  }
  function tt(e) {
    hi.push(e);
  }
  function oe(e, t = !1) {
    return N(e, (r) => {
      if ((t ? _i() : mi()).some((n) => r.matches(n))) return !0;
    });
  }
  function N(e, t) {
    if (e) {
      if (t(e)) return e;
      if (e._x_teleportBack) return N(e._x_teleportBack, t);
      if (e.parentNode instanceof ShadowRoot) return N(e.parentNode.host, t);
      if (e.parentElement) return N(e.parentElement, t);
    }
  }
  function ci(e) {
    return mi().some((t) => e.matches(t));
  }
  var gi = [];
  function yi(e) {
    gi.push(e);
  }
  var Pn = 1;
  function S(e, t = $, r = () => {}) {
    N(e, (i) => i._x_ignore) ||
      Zr(() => {
        t(e, (i, n) => {
          i._x_marker ||
            (r(i, n),
            gi.forEach((s) => s(i, n)),
            ne(i, i.attributes).forEach((s) => s()),
            i._x_ignore || (i._x_marker = Pn++),
            i._x_ignore && n());
        });
      });
  }
  function k(e, t = $) {
    t(e, (r) => {
      (Mr(r), Tt(r), delete r._x_marker);
    });
  }
  function In() {
    [
      ["ui", "dialog", ["[x-dialog], [x-popover]"]],
      ["anchor", "anchor", ["[x-anchor]"]],
      ["sort", "sort", ["[x-sort]"]],
    ].forEach(([t, r, i]) => {
      Jr(r) ||
        i.some((n) => {
          if (document.querySelector(n)) return (T(`found "${n}", but missing ${t} plugin`), !0);
        });
    });
  }
  var Vt = [],
    Ht = !1;
  function ye(e = () => {}) {
    return (
      queueMicrotask(() => {
        Ht ||
          setTimeout(() => {
            rt();
          });
      }),
      new Promise((t) => {
        Vt.push(() => {
          (e(), t());
        });
      })
    );
  }
  function rt() {
    for (Ht = !1; Vt.length;) Vt.shift()();
  }
  function xi() {
    Ht = !0;
  }
  function Ne(e, t) {
    return Array.isArray(t)
      ? Ei(e, t.join(" "))
      : typeof t == "object" && t !== null
        ? Mn(e, t)
        : typeof t == "function"
          ? Ne(e, t())
          : Ei(e, t);
  }
  function Bt(e) {
    return e.split(/\s/).filter(Boolean);
  }
  function Ei(e, t) {
    let r = (n) =>
        Bt(n)
          .filter((s) => !e.classList.contains(s))
          .filter(Boolean),
      i = (n) => (
        e.classList.add(...n),
        () => {
          e.classList.remove(...n);
        }
      );
    return ((t = t === !0 ? (t = "") : t || ""), i(r(t)));
  }
  function Mn(e, t) {
    let r = Object.entries(t)
        .flatMap(([o, a]) => (a ? Bt(o) : !1))
        .filter(Boolean),
      i = Object.entries(t)
        .flatMap(([o, a]) => (a ? !1 : Bt(o)))
        .filter(Boolean),
      n = [],
      s = [];
    return (
      i.forEach((o) => {
        e.classList.contains(o) && (e.classList.remove(o), s.push(o));
      }),
      r.forEach((o) => {
        e.classList.contains(o) || (e.classList.add(o), n.push(o));
      }),
      () => {
        (s.forEach((o) => e.classList.add(o)), n.forEach((o) => e.classList.remove(o)));
      }
    );
  }
  function ae(e, t) {
    return typeof t == "object" && t !== null ? Ln(e, t) : Un(e, t);
  }
  function Ln(e, t) {
    let r = {};
    return (
      Object.entries(t).forEach(([i, n]) => {
        ((r[i] = e.style[i]), i.startsWith("--") || (i = jn(i)), e.style.setProperty(i, n));
      }),
      setTimeout(() => {
        e.style.length === 0 && e.removeAttribute("style");
      }),
      () => {
        ae(e, r);
      }
    );
  }
  function Un(e, t) {
    let r = e.getAttribute("style", t);
    return (
      e.setAttribute("style", t),
      () => {
        e.setAttribute("style", r || "");
      }
    );
  }
  function jn(e) {
    return e.replace(/([a-z])([A-Z])/g, "$1-$2").toLowerCase();
  }
  function Te(e, t = () => {}) {
    let r = !1;
    return function () {
      r ? t.apply(this, arguments) : ((r = !0), e.apply(this, arguments));
    };
  }
  h("transition", (e, { value: t, modifiers: r, expression: i }, { evaluate: n }) => {
    (typeof i == "function" && (i = n(i)), i !== !1 && (!i || typeof i == "boolean" ? $n(e, r, t) : Fn(e, i, t)));
  });
  function Fn(e, t, r) {
    (bi(e, Ne, ""),
      {
        enter: (n) => {
          e._x_transition.enter.during = n;
        },
        "enter-start": (n) => {
          e._x_transition.enter.start = n;
        },
        "enter-end": (n) => {
          e._x_transition.enter.end = n;
        },
        leave: (n) => {
          e._x_transition.leave.during = n;
        },
        "leave-start": (n) => {
          e._x_transition.leave.start = n;
        },
        "leave-end": (n) => {
          e._x_transition.leave.end = n;
        },
      }[r](t));
  }
  function $n(e, t, r) {
    bi(e, ae);
    let i = !t.includes("in") && !t.includes("out") && !r,
      n = i || t.includes("in") || ["enter"].includes(r),
      s = i || t.includes("out") || ["leave"].includes(r);
    (t.includes("in") && !i && (t = t.filter((p, y) => y < t.indexOf("out"))),
      t.includes("out") && !i && (t = t.filter((p, y) => y > t.indexOf("out"))));
    let o = !t.includes("opacity") && !t.includes("scale"),
      a = o || t.includes("opacity"),
      c = o || t.includes("scale"),
      l = a ? 0 : 1,
      u = c ? Ce(t, "scale", 95) / 100 : 1,
      f = Ce(t, "delay", 0) / 1e3,
      g = Ce(t, "origin", "center"),
      m = "opacity, transform",
      L = Ce(t, "duration", 150) / 1e3,
      d = Ce(t, "duration", 75) / 1e3,
      w = "cubic-bezier(0.4, 0.0, 0.2, 1)";
    (n &&
      ((e._x_transition.enter.during = {
        transformOrigin: g,
        transitionDelay: `${f}s`,
        transitionProperty: m,
        transitionDuration: `${L}s`,
        transitionTimingFunction: w,
      }),
      (e._x_transition.enter.start = { opacity: l, transform: `scale(${u})` }),
      (e._x_transition.enter.end = { opacity: 1, transform: "scale(1)" })),
      s &&
        ((e._x_transition.leave.during = {
          transformOrigin: g,
          transitionDelay: `${f}s`,
          transitionProperty: m,
          transitionDuration: `${d}s`,
          transitionTimingFunction: w,
        }),
        (e._x_transition.leave.start = { opacity: 1, transform: "scale(1)" }),
        (e._x_transition.leave.end = { opacity: l, transform: `scale(${u})` })));
  }
  function bi(e, t, r = {}) {
    e._x_transition ||
      (e._x_transition = {
        enter: { during: r, start: r, end: r },
        leave: { during: r, start: r, end: r },
        in(i = () => {}, n = () => {}) {
          it(e, t, { during: this.enter.during, start: this.enter.start, end: this.enter.end }, i, n);
        },
        out(i = () => {}, n = () => {}) {
          it(e, t, { during: this.leave.during, start: this.leave.start, end: this.leave.end }, i, n);
        },
      });
  }
  window.Element.prototype._x_toggleAndCascadeWithTransitions = function (e, t, r, i) {
    let n = document.visibilityState === "visible" ? requestAnimationFrame : setTimeout,
      s = () => n(r);
    if (t) {
      e._x_transition && (e._x_transition.enter || e._x_transition.leave)
        ? e._x_transition.enter &&
          (Object.entries(e._x_transition.enter.during).length ||
            Object.entries(e._x_transition.enter.start).length ||
            Object.entries(e._x_transition.enter.end).length)
          ? e._x_transition.in(r)
          : s()
        : e._x_transition
          ? e._x_transition.in(r)
          : s();
      return;
    }
    ((e._x_hidePromise = e._x_transition
      ? new Promise((o, a) => {
          (e._x_transition.out(
            () => {},
            () => o(i),
          ),
            e._x_transitioning && e._x_transitioning.beforeCancel(() => a({ isFromCancelledTransition: !0 })));
        })
      : Promise.resolve(i)),
      queueMicrotask(() => {
        let o = vi(e);
        o
          ? (o._x_hideChildren || (o._x_hideChildren = []), o._x_hideChildren.push(e))
          : n(() => {
              let a = (c) => {
                let l = Promise.all([c._x_hidePromise, ...(c._x_hideChildren || []).map(a)]).then(([u]) => u?.());
                return (delete c._x_hidePromise, delete c._x_hideChildren, l);
              };
              a(e).catch((c) => {
                if (!c.isFromCancelledTransition) throw c;
              });
            });
      }));
  };
  function vi(e) {
    let t = e.parentNode;
    if (t) return t._x_hidePromise ? t : vi(t);
  }
  function it(e, t, { during: r, start: i, end: n } = {}, s = () => {}, o = () => {}) {
    if (
      (e._x_transitioning && e._x_transitioning.cancel(),
      Object.keys(r).length === 0 && Object.keys(i).length === 0 && Object.keys(n).length === 0)
    ) {
      (s(), o());
      return;
    }
    let a, c, l;
    Vn(e, {
      start() {
        a = t(e, i);
      },
      during() {
        c = t(e, r);
      },
      before: s,
      end() {
        (a(), (l = t(e, n)));
      },
      after: o,
      cleanup() {
        (c(), l());
      },
    });
  }
  function Vn(e, t) {
    let r,
      i,
      n,
      s = Te(() => {
        _(() => {
          ((r = !0), i || t.before(), n || (t.end(), rt()), t.after(), e.isConnected && t.cleanup(), delete e._x_transitioning);
        });
      });
    ((e._x_transitioning = {
      beforeCancels: [],
      beforeCancel(o) {
        this.beforeCancels.push(o);
      },
      cancel: Te(function () {
        for (; this.beforeCancels.length;) this.beforeCancels.shift()();
        s();
      }),
      finish: s,
    }),
      _(() => {
        (t.start(), t.during());
      }),
      xi(),
      requestAnimationFrame(() => {
        if (r) return;
        let o = Number(getComputedStyle(e).transitionDuration.replace(/,.*/, "").replace("s", "")) * 1e3,
          a = Number(getComputedStyle(e).transitionDelay.replace(/,.*/, "").replace("s", "")) * 1e3;
        (o === 0 && (o = Number(getComputedStyle(e).animationDuration.replace("s", "")) * 1e3),
          _(() => {
            t.before();
          }),
          (i = !0),
          requestAnimationFrame(() => {
            r ||
              (_(() => {
                t.end();
              }),
              rt(),
              setTimeout(e._x_transitioning.finish, o + a),
              (n = !0));
          }));
      }));
  }
  function Ce(e, t, r) {
    if (e.indexOf(t) === -1) return r;
    let i = e[e.indexOf(t) + 1];
    if (!i || (t === "scale" && isNaN(i))) return r;
    if (t === "duration" || t === "delay") {
      let n = i.match(/([0-9]+)ms/);
      if (n) return n[1];
    }
    return t === "origin" && ["top", "right", "left", "center", "bottom"].includes(e[e.indexOf(t) + 2])
      ? [i, e[e.indexOf(t) + 2]].join(" ")
      : i;
  }
  function Re(e, t, r, i = []) {
    switch ((e._x_bindings || (e._x_bindings = D({})), (e._x_bindings[t] = r), (t = i.includes("camel") ? Yn(t) : t), t)) {
      case "value":
        Hn(e, r);
        break;
      case "style":
        Kn(e, r);
        break;
      case "class":
        Bn(e, r);
        break;
      case "selected":
      case "checked":
        qn(e, t, r);
        break;
      default:
        Kt(e, t, r);
        break;
    }
  }
  function Hn(e, t) {
    if (nt(e)) e.attributes.value === void 0 && (e.value = t);
    else if (De(e))
      Number.isInteger(t)
        ? (e.value = t)
        : !Array.isArray(t) && typeof t != "boolean" && ![null, void 0].includes(t)
          ? (e.value = String(t))
          : Array.isArray(t)
            ? (e.checked = t.some((r) => Jn(r, e.value)))
            : (e.checked = !!t);
    else if (e.tagName === "SELECT") Gn(e, t);
    else if (e.tagName === "OPTION") Kt(e, "value", t);
    else {
      if (e.value === t && (typeof t != "object" || t === null)) return;
      e.value = t === void 0 ? "" : t;
    }
  }
  function Bn(e, t) {
    (e._x_undoAddedClasses && e._x_undoAddedClasses(), (e._x_undoAddedClasses = Ne(e, t)));
  }
  function Kn(e, t) {
    (e._x_undoAddedStyles && e._x_undoAddedStyles(), (e._x_undoAddedStyles = ae(e, t)));
  }
  function qn(e, t, r) {
    (Kt(e, t, r), Wn(e, t, r));
  }
  function Kt(e, t, r) {
    [null, void 0, !1].includes(r) && Zn(t) ? e.removeAttribute(t) : (wi(t) && (r = t), Qn(r) && (r = JSON.stringify(r)), zn(e, t, r));
  }
  function zn(e, t, r) {
    e.getAttribute(t) != r && e.setAttribute(t, r);
  }
  function Wn(e, t, r) {
    e[t] !== r && (e[t] = r);
  }
  function Gn(e, t) {
    let r = [].concat(t).map((i) => i + "");
    Array.from(e.options).forEach((i) => {
      i.selected = r.includes(i.value);
    });
  }
  function Yn(e) {
    return e.toLowerCase().replace(/-(\w)/g, (t, r) => r.toUpperCase());
  }
  function Jn(e, t) {
    return e == t;
  }
  function ke(e) {
    return [1, "1", "true", "on", "yes", !0].includes(e) ? !0 : [0, "0", "false", "off", "no", !1].includes(e) ? !1 : e ? Boolean(e) : null;
  }
  var Xn = new Set([
    "allowfullscreen",
    "async",
    "autofocus",
    "autoplay",
    "checked",
    "controls",
    "default",
    "defer",
    "disabled",
    "formnovalidate",
    "inert",
    "ismap",
    "itemscope",
    "loop",
    "multiple",
    "muted",
    "nomodule",
    "novalidate",
    "open",
    "playsinline",
    "readonly",
    "required",
    "reversed",
    "selected",
    "shadowrootclonable",
    "shadowrootdelegatesfocus",
    "shadowrootserializable",
  ]);
  function wi(e) {
    return Xn.has(e);
  }
  function Zn(e) {
    return !["aria-pressed", "aria-checked", "aria-expanded", "aria-selected"].includes(e);
  }
  function Qn(e) {
    return typeof e == "object" && e !== null;
  }
  function Ai(e, t, r) {
    return e._x_bindings && e._x_bindings[t] !== void 0 ? e._x_bindings[t] : Si(e, t, r);
  }
  function Oi(e, t, r, i = !0) {
    if (e._x_bindings && e._x_bindings[t] !== void 0) return e._x_bindings[t];
    if (e._x_inlineBindings && e._x_inlineBindings[t] !== void 0) {
      let n = e._x_inlineBindings[t];
      return ((n.extract = i), Ge(() => I(e, n.expression)));
    }
    return Si(e, t, r);
  }
  function Si(e, t, r) {
    let i = e.getAttribute(t);
    return i === null ? (typeof r == "function" ? r() : r) : i === "" ? !0 : wi(t) ? !![t, "true"].includes(i) : i;
  }
  function De(e) {
    return e.type === "checkbox" || e.localName === "ui-checkbox" || e.localName === "ui-switch";
  }
  function nt(e) {
    return e.type === "radio" || e.localName === "ui-radio";
  }
  function st(e, t) {
    let r;
    return function () {
      let i = this,
        n = arguments,
        s = function () {
          ((r = null), e.apply(i, n));
        };
      (clearTimeout(r), (r = setTimeout(s, t)));
    };
  }
  function ot(e, t) {
    let r;
    return function () {
      let i = this,
        n = arguments;
      r || (e.apply(i, n), (r = !0), setTimeout(() => (r = !1), t));
    };
  }
  function at({ get: e, set: t }, { get: r, set: i }) {
    let n = !0,
      s,
      o,
      a = j(() => {
        let c = e(),
          l = r();
        if (n) (i(qt(c)), (n = !1));
        else {
          let u = JSON.stringify(c),
            f = JSON.stringify(l);
          u !== s ? i(qt(c)) : u !== f && t(qt(l));
        }
        ((s = JSON.stringify(e())), (o = JSON.stringify(r())));
      });
    return () => {
      (he(a), q(a));
    };
  }
  function qt(e) {
    return typeof e == "object" ? JSON.parse(JSON.stringify(e)) : e;
  }
  function Ni(e) {
    (Array.isArray(e) ? e : [e]).forEach((r) => r(W));
  }
  var G = {},
    Ti = !1;
  function Ci(e, t) {
    if ((Ti || ((G = D(G)), (Ti = !0)), t === void 0)) return G[e];
    ((G[e] = t),
      typeof t == "object" && t !== null && t._x_interceptor ? (G[e] = t.initialize(G, e, e, () => {})) : _e(G[e]),
      typeof t == "object" && t !== null && t.hasOwnProperty("init") && typeof t.init == "function" && G[e].init());
  }
  function Ri() {
    return G;
  }
  var ki = {};
  function Di(e, t) {
    let r = typeof t != "function" ? () => t : t;
    return e instanceof Element ? zt(e, r()) : ((ki[e] = r), () => {});
  }
  function Pi(e) {
    return (
      Object.entries(ki).forEach(([t, r]) => {
        Object.defineProperty(e, t, {
          get() {
            return (...i) => r(...i);
          },
        });
      }),
      e
    );
  }
  function zt(e, t, r) {
    let i = [];
    for (; i.length;) i.pop()();
    let n = Object.entries(t).map(([o, a]) => ({ name: o, value: a })),
      s = Ft(n);
    return (
      (n = n.map((o) => (s.find((a) => a.name === o.name) ? { name: `x-bind:${o.name}`, value: `"${o.value}"` } : o))),
      ne(e, n, r).map((o) => {
        (i.push(o.runCleanups), o());
      }),
      () => {
        for (; i.length;) i.pop()();
      }
    );
  }
  var Ii = {};
  function Mi(e, t) {
    Ii[e] = t;
  }
  function Li(e, t) {
    return (
      Object.entries(Ii).forEach(([r, i]) => {
        Object.defineProperty(e, r, {
          get() {
            return (...n) => i.bind(t)(...n);
          },
          enumerable: !1,
        });
      }),
      e
    );
  }
  var es = {
      get reactive() {
        return D;
      },
      get release() {
        return q;
      },
      get effect() {
        return j;
      },
      get raw() {
        return St;
      },
      get transaction() {
        return Rr;
      },
      version: "3.17.4",
      flushAndStopDeferringMutations: jr,
      dontAutoEvaluateFunctions: Ge,
      disableEffectScheduling: Nr,
      startObservingMutations: Oe,
      stopObservingMutations: Rt,
      setReactivityEngine: Tr,
      onAttributeRemoved: Be,
      onAttributesAdded: He,
      closestDataStack: z,
      skipDuringClone: O,
      onlyDuringClone: ii,
      addRootSelector: et,
      addInitSelector: tt,
      setErrorHandler: Hr,
      interceptClone: H,
      addScopeToNode: F,
      deferMutations: Ur,
      mapAttributes: ge,
      evaluateLater: b,
      interceptInit: yi,
      initInterceptors: _e,
      injectMagics: X,
      setEvaluator: Kr,
      setRawEvaluator: zr,
      mergeProxies: P,
      extractProp: Oi,
      findClosest: N,
      onElRemoved: me,
      closestRoot: oe,
      destroyTree: k,
      interceptor: We,
      transition: it,
      setStyles: ae,
      mutateDom: _,
      deferInit: li,
      directive: h,
      entangle: at,
      throttle: ot,
      debounce: st,
      evaluate: I,
      evaluateRaw: Gr,
      initTree: S,
      nextTick: ye,
      prefixed: R,
      prefix: Yr,
      plugin: Ni,
      magic: v,
      store: Ci,
      start: di,
      clone: oi,
      cloneNode: si,
      bound: Ai,
      $data: ze,
      watch: $e,
      walk: $,
      data: Mi,
      bind: Di,
    },
    W = es;
  var Ui = new WeakMap(),
    ji = new Set();
  Object.getOwnPropertyNames(globalThis).forEach((e) => {
    if (e === "styleMedia" || e === "sharedStorage") return;
    let t;
    try {
      t = globalThis[e];
    } catch {
      return;
    }
    ji.add(t);
  });
  var A = class {
      constructor(t, r, i, n) {
        ((this.type = t), (this.value = r), (this.start = i), (this.end = n));
      }
    },
    ts = ["IDENTIFIER", "KEYWORD", "BOOLEAN", "NULL", "UNDEFINED"],
    Wt = class {
      constructor(t) {
        ((this.input = t), (this.position = 0), (this.tokens = []));
      }
      tokenize() {
        for (; this.position < this.input.length && (this.skipWhitespace(), !(this.position >= this.input.length));) {
          let t = this.input[this.position];
          this.isDigit(t)
            ? this.readNumber()
            : this.isAlpha(t) || t === "_" || t === "$"
              ? this.readIdentifierOrKeyword()
              : t === '"' || t === "'"
                ? this.readString()
                : t === "/" && this.peek() === "/"
                  ? this.skipLineComment()
                  : this.readOperatorOrPunctuation();
        }
        return (this.tokens.push(new A("EOF", null, this.position, this.position)), this.tokens);
      }
      skipWhitespace() {
        for (; this.position < this.input.length && /\s/.test(this.input[this.position]);) this.position++;
      }
      skipLineComment() {
        for (
          ;
          this.position < this.input.length &&
          this.input[this.position] !==
            `
`;
        )
          this.position++;
      }
      isDigit(t) {
        return /[0-9]/.test(t);
      }
      isAlpha(t) {
        return /[a-zA-Z]/.test(t);
      }
      isAlphaNumeric(t) {
        return /[a-zA-Z0-9_$]/.test(t);
      }
      peek(t = 1) {
        return this.input[this.position + t] || "";
      }
      readNumber() {
        let t = this.position,
          r = !1;
        for (; this.position < this.input.length;) {
          let n = this.input[this.position];
          if (this.isDigit(n)) this.position++;
          else if (n === "." && !r) ((r = !0), this.position++);
          else break;
        }
        let i = this.input.slice(t, this.position);
        this.tokens.push(new A("NUMBER", parseFloat(i), t, this.position));
      }
      readIdentifierOrKeyword() {
        let t = this.position;
        for (; this.position < this.input.length && this.isAlphaNumeric(this.input[this.position]);) this.position++;
        let r = this.input.slice(t, this.position);
        ["true", "false", "null", "undefined", "new", "typeof", "void", "delete", "in", "instanceof"].includes(r)
          ? r === "true" || r === "false"
            ? this.tokens.push(new A("BOOLEAN", r === "true", t, this.position))
            : r === "null"
              ? this.tokens.push(new A("NULL", null, t, this.position))
              : r === "undefined"
                ? this.tokens.push(new A("UNDEFINED", void 0, t, this.position))
                : this.tokens.push(new A("KEYWORD", r, t, this.position))
          : this.tokens.push(new A("IDENTIFIER", r, t, this.position));
      }
      readString() {
        let t = this.position,
          r = this.input[this.position];
        this.position++;
        let i = "",
          n = !1;
        for (; this.position < this.input.length;) {
          let s = this.input[this.position];
          if (n) {
            switch (s) {
              case "n":
                i += `
`;
                break;
              case "t":
                i += "	";
                break;
              case "r":
                i += "\r";
                break;
              case "\\":
                i += "\\";
                break;
              case r:
                i += r;
                break;
              case "u": {
                let o = this.input.slice(this.position + 1, this.position + 5);
                /^[0-9a-fA-F]{4}$/.test(o) ? ((i += String.fromCharCode(parseInt(o, 16))), (this.position += 4)) : (i += s);
                break;
              }
              default:
                i += s;
            }
            n = !1;
          } else if (s === "\\") n = !0;
          else if (s === r) {
            (this.position++, this.tokens.push(new A("STRING", i, t, this.position)));
            return;
          } else i += s;
          this.position++;
        }
        throw new Error(`Unterminated string starting at position ${t}`);
      }
      readOperatorOrPunctuation() {
        let t = this.position,
          r = this.input[this.position],
          i = this.peek(),
          n = this.peek(2);
        if (r === "=" && i === "=" && n === "=") ((this.position += 3), this.tokens.push(new A("OPERATOR", "===", t, this.position)));
        else if (r === "!" && i === "=" && n === "=") ((this.position += 3), this.tokens.push(new A("OPERATOR", "!==", t, this.position)));
        else if (r === "=" && i === "=") ((this.position += 2), this.tokens.push(new A("OPERATOR", "==", t, this.position)));
        else if (r === "!" && i === "=") ((this.position += 2), this.tokens.push(new A("OPERATOR", "!=", t, this.position)));
        else if (r === "<" && i === "=") ((this.position += 2), this.tokens.push(new A("OPERATOR", "<=", t, this.position)));
        else if (r === ">" && i === "=") ((this.position += 2), this.tokens.push(new A("OPERATOR", ">=", t, this.position)));
        else if (r === "&" && i === "&") ((this.position += 2), this.tokens.push(new A("OPERATOR", "&&", t, this.position)));
        else if (r === "|" && i === "|") ((this.position += 2), this.tokens.push(new A("OPERATOR", "||", t, this.position)));
        else if (r === "+" && i === "+") ((this.position += 2), this.tokens.push(new A("OPERATOR", "++", t, this.position)));
        else if (r === "-" && i === "-") ((this.position += 2), this.tokens.push(new A("OPERATOR", "--", t, this.position)));
        else {
          this.position++;
          let s = "()[]{},.;:?".includes(r) ? "PUNCTUATION" : "OPERATOR";
          this.tokens.push(new A(s, r, t, this.position));
        }
      }
    },
    Gt = class {
      constructor(t) {
        ((this.tokens = t), (this.position = 0));
      }
      parse() {
        if (this.isAtEnd()) throw new Error("Empty expression");
        let t = this.parseExpression();
        if ((this.match("PUNCTUATION", ";"), !this.isAtEnd())) throw new Error(`Unexpected token: ${this.current().value}`);
        return t;
      }
      parseExpression() {
        return this.parseAssignment();
      }
      parseAssignment() {
        let t = this.parseTernary();
        if (this.match("OPERATOR", "=")) {
          let r = this.parseAssignment();
          if (t.type === "Identifier" || t.type === "MemberExpression")
            return { type: "AssignmentExpression", left: t, operator: "=", right: r };
          throw new Error("Invalid assignment target");
        }
        return t;
      }
      parseTernary() {
        let t = this.parseLogicalOr();
        if (this.match("PUNCTUATION", "?")) {
          let r = this.parseExpression();
          this.consume("PUNCTUATION", ":");
          let i = this.parseExpression();
          return { type: "ConditionalExpression", test: t, consequent: r, alternate: i };
        }
        return t;
      }
      parseLogicalOr() {
        let t = this.parseLogicalAnd();
        for (; this.match("OPERATOR", "||");) {
          let r = this.previous().value,
            i = this.parseLogicalAnd();
          t = { type: "BinaryExpression", operator: r, left: t, right: i };
        }
        return t;
      }
      parseLogicalAnd() {
        let t = this.parseEquality();
        for (; this.match("OPERATOR", "&&");) {
          let r = this.previous().value,
            i = this.parseEquality();
          t = { type: "BinaryExpression", operator: r, left: t, right: i };
        }
        return t;
      }
      parseEquality() {
        let t = this.parseRelational();
        for (; this.match("OPERATOR", "==", "!=", "===", "!==");) {
          let r = this.previous().value,
            i = this.parseRelational();
          t = { type: "BinaryExpression", operator: r, left: t, right: i };
        }
        return t;
      }
      parseRelational() {
        let t = this.parseAdditive();
        for (; this.match("OPERATOR", "<", ">", "<=", ">=");) {
          let r = this.previous().value,
            i = this.parseAdditive();
          t = { type: "BinaryExpression", operator: r, left: t, right: i };
        }
        return t;
      }
      parseAdditive() {
        let t = this.parseMultiplicative();
        for (; this.match("OPERATOR", "+", "-");) {
          let r = this.previous().value,
            i = this.parseMultiplicative();
          t = { type: "BinaryExpression", operator: r, left: t, right: i };
        }
        return t;
      }
      parseMultiplicative() {
        let t = this.parseUnary();
        for (; this.match("OPERATOR", "*", "/", "%");) {
          let r = this.previous().value,
            i = this.parseUnary();
          t = { type: "BinaryExpression", operator: r, left: t, right: i };
        }
        return t;
      }
      parseUnary() {
        if (this.match("OPERATOR", "++", "--")) {
          let t = this.previous().value,
            r = this.parseUnary();
          return { type: "UpdateExpression", operator: t, argument: r, prefix: !0 };
        }
        if (this.match("OPERATOR", "!", "-", "+")) {
          let t = this.previous().value,
            r = this.parseUnary();
          return { type: "UnaryExpression", operator: t, argument: r, prefix: !0 };
        }
        return this.parsePostfix();
      }
      parsePostfix() {
        let t = this.parseMember();
        return this.match("OPERATOR", "++", "--")
          ? { type: "UpdateExpression", operator: this.previous().value, argument: t, prefix: !1 }
          : t;
      }
      parseMember() {
        let t = this.parsePrimary();
        for (;;)
          if (this.match("PUNCTUATION", ".")) {
            let r = this.consumeIdentifierName();
            t = { type: "MemberExpression", object: t, property: { type: "Identifier", name: r }, computed: !1 };
          } else if (this.match("PUNCTUATION", "[")) {
            let r = this.parseExpression();
            (this.consume("PUNCTUATION", "]"), (t = { type: "MemberExpression", object: t, property: r, computed: !0 }));
          } else if (this.match("PUNCTUATION", "(")) {
            let r = this.parseArguments();
            t = { type: "CallExpression", callee: t, arguments: r };
          } else break;
        return t;
      }
      parseArguments() {
        let t = [];
        if (!this.check("PUNCTUATION", ")"))
          do t.push(this.parseExpression());
          while (this.match("PUNCTUATION", ","));
        return (this.consume("PUNCTUATION", ")"), t);
      }
      parsePrimary() {
        if (this.match("NUMBER")) return { type: "Literal", value: this.previous().value };
        if (this.match("STRING")) return { type: "Literal", value: this.previous().value };
        if (this.match("BOOLEAN")) return { type: "Literal", value: this.previous().value };
        if (this.match("NULL")) return { type: "Literal", value: null };
        if (this.match("UNDEFINED")) return { type: "Literal", value: void 0 };
        if (this.match("IDENTIFIER")) return { type: "Identifier", name: this.previous().value };
        if (this.match("PUNCTUATION", "(")) {
          let t = this.parseExpression();
          return (this.consume("PUNCTUATION", ")"), t);
        }
        if (this.match("PUNCTUATION", "[")) return this.parseArrayLiteral();
        if (this.match("PUNCTUATION", "{")) return this.parseObjectLiteral();
        throw new Error(`Unexpected token: ${this.current().type} "${this.current().value}"`);
      }
      parseArrayLiteral() {
        let t = [];
        for (; !this.check("PUNCTUATION", "]") && !this.isAtEnd() && (t.push(this.parseExpression()), this.match("PUNCTUATION", ","));)
          if (this.check("PUNCTUATION", "]")) break;
        return (this.consume("PUNCTUATION", "]"), { type: "ArrayExpression", elements: t });
      }
      parseObjectLiteral() {
        let t = [];
        for (; !this.check("PUNCTUATION", "}") && !this.isAtEnd();) {
          let r,
            i = !1;
          if (this.match("STRING")) r = { type: "Literal", value: this.previous().value };
          else if (this.checkIdentifierName()) r = { type: "Identifier", name: this.consumeIdentifierName() };
          else if (this.match("PUNCTUATION", "[")) ((r = this.parseExpression()), (i = !0), this.consume("PUNCTUATION", "]"));
          else throw new Error("Expected property key");
          this.consume("PUNCTUATION", ":");
          let n = this.parseExpression();
          if ((t.push({ type: "Property", key: r, value: n, computed: i, shorthand: !1 }), this.match("PUNCTUATION", ","))) {
            if (this.check("PUNCTUATION", "}")) break;
          } else break;
        }
        return (this.consume("PUNCTUATION", "}"), { type: "ObjectExpression", properties: t });
      }
      match(...t) {
        for (let r = 0; r < t.length; r++) {
          let i = t[r];
          if (r === 0 && t.length > 1) {
            let n = i;
            for (let s = 1; s < t.length; s++) if (this.check(n, t[s])) return (this.advance(), !0);
            return !1;
          } else if (t.length === 1) return this.checkType(i) ? (this.advance(), !0) : !1;
        }
        return !1;
      }
      check(t, r) {
        return this.isAtEnd() ? !1 : r !== void 0 ? this.current().type === t && this.current().value === r : this.current().type === t;
      }
      checkType(t) {
        return this.isAtEnd() ? !1 : this.current().type === t;
      }
      advance() {
        return (this.isAtEnd() || this.position++, this.previous());
      }
      isAtEnd() {
        return this.current().type === "EOF";
      }
      current() {
        return this.tokens[this.position];
      }
      previous() {
        return this.tokens[this.position - 1];
      }
      consume(t, r) {
        if (r !== void 0) {
          if (this.check(t, r)) return this.advance();
          throw new Error(`Expected ${t} "${r}" but got ${this.current().type} "${this.current().value}"`);
        }
        if (this.check(t)) return this.advance();
        throw new Error(`Expected ${t} but got ${this.current().type} "${this.current().value}"`);
      }
      checkIdentifierName() {
        return this.isAtEnd() ? !1 : ts.includes(this.current().type);
      }
      consumeIdentifierName() {
        if (!this.checkIdentifierName())
          throw new Error(`Expected an identifier name but got ${this.current().type} "${this.current().value}"`);
        let t = this.advance();
        switch (t.type) {
          case "BOOLEAN":
            return t.value ? "true" : "false";
          case "NULL":
            return "null";
          case "UNDEFINED":
            return "undefined";
          default:
            return t.value;
        }
      }
    },
    Yt = class {
      evaluate({ node: t, scope: r = {}, context: i = null, forceBindingRootScopeToFunctions: n = !0 }) {
        switch (t.type) {
          case "Literal":
            return t.value;
          case "Identifier":
            if (t.name in r) {
              let p = r[t.name];
              return (this.checkForDangerousValues(p), typeof p == "function" ? p.bind(r) : p);
            }
            throw new Error(`Undefined variable: ${t.name}`);
          case "MemberExpression":
            let s = this.evaluate({ node: t.object, scope: r, context: i, forceBindingRootScopeToFunctions: n });
            if (s == null) throw new Error("Cannot read property of null or undefined");
            let o;
            (t.computed
              ? (o = this.evaluate({ node: t.property, scope: r, context: i, forceBindingRootScopeToFunctions: n }))
              : (o = t.property.name),
              this.checkForDangerousKeywords(o));
            let a = s[o];
            return (this.checkForDangerousValues(a), typeof a == "function" ? (n ? a.bind(r) : a.bind(s)) : a);
          case "CallExpression":
            let c = t.arguments.map((p) => this.evaluate({ node: p, scope: r, context: i, forceBindingRootScopeToFunctions: n })),
              l;
            if (t.callee.type === "MemberExpression") {
              let p = this.evaluate({ node: t.callee.object, scope: r, context: i, forceBindingRootScopeToFunctions: n }),
                y;
              (t.callee.computed
                ? (y = this.evaluate({ node: t.callee.property, scope: r, context: i, forceBindingRootScopeToFunctions: n }))
                : (y = t.callee.property.name),
                this.checkForDangerousKeywords(y));
              let U = p[y];
              if (typeof U != "function") throw new Error("Value is not a function");
              l = U.apply(p, c);
            } else if (t.callee.type === "Identifier") {
              let p = t.callee.name,
                y;
              if (p in r) y = r[p];
              else throw new Error(`Undefined variable: ${p}`);
              if (typeof y != "function") throw new Error("Value is not a function");
              let U = i !== null ? i : r;
              l = y.apply(U, c);
            } else {
              let p = this.evaluate({ node: t.callee, scope: r, context: i, forceBindingRootScopeToFunctions: n });
              if (typeof p != "function") throw new Error("Value is not a function");
              l = p.apply(i, c);
            }
            return (this.checkForDangerousValues(l), l);
          case "UnaryExpression":
            let u = this.evaluate({ node: t.argument, scope: r, context: i, forceBindingRootScopeToFunctions: n });
            switch (t.operator) {
              case "!":
                return !u;
              case "-":
                return -u;
              case "+":
                return +u;
              default:
                throw new Error(`Unknown unary operator: ${t.operator}`);
            }
          case "UpdateExpression":
            if (t.argument.type === "Identifier") {
              let p = t.argument.name;
              if (!(p in r)) throw new Error(`Undefined variable: ${p}`);
              let y = r[p];
              return (t.operator === "++" ? (r[p] = y + 1) : t.operator === "--" && (r[p] = y - 1), t.prefix ? r[p] : y);
            } else if (t.argument.type === "MemberExpression") {
              let p = this.evaluate({ node: t.argument.object, scope: r, context: i, forceBindingRootScopeToFunctions: n }),
                y = t.argument.computed
                  ? this.evaluate({ node: t.argument.property, scope: r, context: i, forceBindingRootScopeToFunctions: n })
                  : t.argument.property.name;
              if (this.isDOMObject(p)) throw new Error("Property assignments on DOM objects are prohibited in the CSP build");
              this.checkForDangerousKeywords(y);
              let U = p[y];
              return (t.operator === "++" ? (p[y] = U + 1) : t.operator === "--" && (p[y] = U - 1), t.prefix ? p[y] : U);
            }
            throw new Error("Invalid update expression target");
          case "BinaryExpression":
            let f = this.evaluate({ node: t.left, scope: r, context: i, forceBindingRootScopeToFunctions: n }),
              g = () => this.evaluate({ node: t.right, scope: r, context: i, forceBindingRootScopeToFunctions: n });
            if (t.operator === "&&") return f && g();
            if (t.operator === "||") return f || g();
            let m = g();
            switch (t.operator) {
              case "+":
                return f + m;
              case "-":
                return f - m;
              case "*":
                return f * m;
              case "/":
                return f / m;
              case "%":
                return f % m;
              case "==":
                return f == m;
              case "!=":
                return f != m;
              case "===":
                return f === m;
              case "!==":
                return f !== m;
              case "<":
                return f < m;
              case ">":
                return f > m;
              case "<=":
                return f <= m;
              case ">=":
                return f >= m;
              default:
                throw new Error(`Unknown binary operator: ${t.operator}`);
            }
          case "ConditionalExpression":
            return this.evaluate({ node: t.test, scope: r, context: i, forceBindingRootScopeToFunctions: n })
              ? this.evaluate({ node: t.consequent, scope: r, context: i, forceBindingRootScopeToFunctions: n })
              : this.evaluate({ node: t.alternate, scope: r, context: i, forceBindingRootScopeToFunctions: n });
          case "AssignmentExpression":
            let d = this.evaluate({ node: t.right, scope: r, context: i, forceBindingRootScopeToFunctions: n });
            if (t.left.type === "Identifier") return ((r[t.left.name] = d), d);
            if (t.left.type === "MemberExpression") {
              let p = this.evaluate({ node: t.left.object, scope: r, context: i, forceBindingRootScopeToFunctions: n }),
                y = t.left.computed
                  ? this.evaluate({ node: t.left.property, scope: r, context: i, forceBindingRootScopeToFunctions: n })
                  : t.left.property.name;
              if (this.isDOMObject(p)) throw new Error("Property assignments on DOM objects are prohibited in the CSP build");
              return (this.checkForDangerousKeywords(y), (p[y] = d), d);
            }
            throw new Error("Invalid assignment target");
          case "ArrayExpression":
            return t.elements.map((p) => this.evaluate({ node: p, scope: r, context: i, forceBindingRootScopeToFunctions: n }));
          case "ObjectExpression":
            let w = {};
            for (let p of t.properties) {
              let y = p.computed
                  ? this.evaluate({ node: p.key, scope: r, context: i, forceBindingRootScopeToFunctions: n })
                  : p.key.type === "Identifier"
                    ? p.key.name
                    : this.evaluate({ node: p.key, scope: r, context: i, forceBindingRootScopeToFunctions: n }),
                U = this.evaluate({ node: p.value, scope: r, context: i, forceBindingRootScopeToFunctions: n });
              w[y] = U;
            }
            return w;
          default:
            throw new Error(`Unknown node type: ${t.type}`);
        }
      }
      isDOMObject(t) {
        if (
          t instanceof Node ||
          (typeof CSSStyleDeclaration < "u" && t instanceof CSSStyleDeclaration) ||
          (typeof DOMStringMap < "u" && t instanceof DOMStringMap) ||
          (typeof DOMTokenList < "u" && t instanceof DOMTokenList) ||
          (typeof NamedNodeMap < "u" && t instanceof NamedNodeMap)
        )
          return !0;
        let r = t != null && t.constructor;
        return !!(r && typeof r.name == "string" && /^(SVG|CSS|DOM)[A-Z]/.test(r.name));
      }
      checkForDangerousKeywords(t) {
        if (
          [
            "constructor",
            "prototype",
            "__proto__",
            "__defineGetter__",
            "__defineSetter__",
            "insertAdjacentHTML",
            "insertAdjacentElement",
            "insertAdjacentText",
            "setAttribute",
            "setAttributeNS",
            "setAttributeNode",
            "setAttributeNodeNS",
            "createElement",
            "createElementNS",
            "createDocumentFragment",
            "createContextualFragment",
            "appendChild",
            "insertBefore",
            "replaceChild",
          ].includes(t)
        )
          throw new Error(`Accessing "${t}" is prohibited in the CSP build`);
      }
      checkForDangerousValues(t) {
        if (t !== null && !(typeof t != "object" && typeof t != "function") && !Ui.has(t)) {
          if (
            t instanceof HTMLIFrameElement ||
            t instanceof HTMLScriptElement ||
            (typeof SVGScriptElement < "u" && t instanceof SVGScriptElement)
          )
            throw new Error("Accessing iframes and scripts is prohibited in the CSP build");
          if (typeof Document < "u" && t instanceof Document) throw new Error("Accessing document objects is prohibited in the CSP build");
          if (ji.has(t)) throw new Error("Accessing global variables is prohibited in the CSP build");
          return (Ui.set(t, !0), !0);
        }
      }
    };
  function Jt(e) {
    try {
      let r = new Wt(e).tokenize(),
        n = new Gt(r).parse(),
        s = new Yt();
      return function (o = {}) {
        let { scope: a = {}, context: c = null, forceBindingRootScopeToFunctions: l = !1 } = o;
        return s.evaluate({ node: n, scope: a, context: c, forceBindingRootScopeToFunctions: l });
      };
    } catch (t) {
      throw new Error(`CSP Parser Error: ${t.message}`);
    }
  }
  function Fi(e, t, r = {}) {
    let i = Vi(e),
      n = P([r.scope ?? {}, ...i]),
      s = r.params ?? [],
      a = Jt(t)({ scope: n, forceBindingRootScopeToFunctions: !0 });
    return typeof a == "function" && Z ? a.apply(n, s) : a;
  }
  function $i(e, t) {
    let r = Vi(e);
    if (typeof t == "function") return Wr(r, t);
    let i = rs(e, t, r);
    return It.bind(null, e, t, i);
  }
  function Vi(e) {
    let t = {};
    return (X(t, e), [t, ...z(e)]);
  }
  function rs(e, t, r) {
    if (e instanceof HTMLIFrameElement) throw new Error("Evaluating expressions on an iframe is prohibited in the CSP build");
    if (e instanceof HTMLScriptElement) throw new Error("Evaluating expressions on a script is prohibited in the CSP build");
    return (i = () => {}, { scope: n = {}, params: s = [] } = {}) => {
      let o = P([n, ...r]),
        c = Jt(t)({ scope: o, forceBindingRootScopeToFunctions: !0 });
      if (Z && typeof c == "function") {
        let l = c.apply(c, s);
        l instanceof Promise ? l.then((u) => i(u)) : i(l);
      } else typeof c == "object" && c instanceof Promise ? c.then((l) => i(l)) : i(c);
    };
  }
  function Xt(e) {
    let t = Object.create(null);
    for (let r of e.split(",")) t[r] = 1;
    return (r) => r in t;
  }
  var is = Object.freeze({}),
    Ka = Object.freeze([]);
  var xe = Object.assign;
  var ns = Object.prototype.hasOwnProperty,
    ct = (e, t) => ns.call(e, t),
    Ee = Array.isArray,
    be = (e) => Hi(e) === "[object Map]";
  var ss = (e) => typeof e == "string",
    ve = (e) => typeof e == "symbol",
    we = (e) => e !== null && typeof e == "object";
  var os = Object.prototype.toString,
    Hi = (e) => os.call(e),
    Zt = (e) => Hi(e).slice(8, -1);
  var lt = (e) => ss(e) && e !== "NaN" && e[0] !== "-" && "" + parseInt(e, 10) === e;
  var ut = (e) => {
      let t = Object.create(null);
      return (r) => t[r] || (t[r] = e(r));
    },
    as = /-\w/g,
    qa = ut((e) => e.replace(as, (t) => t.slice(1).toUpperCase())),
    cs = /\B([A-Z])/g,
    za = ut((e) => e.replace(cs, "-$1").toLowerCase()),
    Qt = ut((e) => e.charAt(0).toUpperCase() + e.slice(1)),
    Wa = ut((e) => (e ? `on${Qt(e)}` : "")),
    Q = (e, t) => !Object.is(e, t);
  var ls = "itemscope,allowfullscreen,formnovalidate,ismap,nomodule,novalidate,readonly";
  var Ga = Xt(
    ls +
      ",async,autofocus,autoplay,controls,default,defer,disabled,inert,loop,open,required,reversed,scoped,seamless,checked,muted,multiple,selected",
  );
  function le(e, ...t) {
    console.warn(`[Vue warn] ${e}`, ...t);
  }
  var er;
  var x;
  var tr = new WeakSet(),
    dt = class {
      constructor(t) {
        ((this.fn = t),
          (this.deps = void 0),
          (this.depsTail = void 0),
          (this.flags = 5),
          (this.next = void 0),
          (this.cleanup = void 0),
          (this.scheduler = void 0),
          er && (er.active ? er.effects.push(this) : (this.flags &= -2)));
      }
      pause() {
        this.flags |= 64;
      }
      resume() {
        this.flags & 64 && ((this.flags &= -65), tr.has(this) && (tr.delete(this), this.trigger()));
      }
      notify() {
        (this.flags & 2 && !(this.flags & 32)) || this.flags & 8 || us(this);
      }
      run() {
        if (!(this.flags & 1)) return this.fn();
        ((this.flags |= 2), Bi(this), Wi(this));
        let t = x,
          r = M;
        ((x = this), (M = !0));
        try {
          return this.fn();
        } finally {
          (x !== this && le("Active effect was not restored correctly - this is likely a Vue internal bug."),
            Gi(this),
            (x = t),
            (M = r),
            (this.flags &= -3));
        }
      }
      stop() {
        if (this.flags & 1) {
          for (let t = this.deps; t; t = t.nextDep) mr(t);
          ((this.deps = this.depsTail = void 0), Bi(this), this.onStop && this.onStop(), (this.flags &= -2));
        }
      }
      trigger() {
        this.flags & 64 ? tr.add(this) : this.scheduler ? this.scheduler() : this.runIfDirty();
      }
      runIfDirty() {
        nr(this) && this.run();
      }
      get dirty() {
        return nr(this);
      }
    },
    zi = 0,
    Ie,
    Me;
  function us(e, t = !1) {
    if (((e.flags |= 8), t)) {
      ((e.next = Me), (Me = e));
      return;
    }
    ((e.next = Ie), (Ie = e));
  }
  function dr() {
    zi++;
  }
  function hr() {
    if (--zi > 0) return;
    if (Me) {
      let t = Me;
      for (Me = void 0; t;) {
        let r = t.next;
        ((t.next = void 0), (t.flags &= -9), (t = r));
      }
    }
    let e;
    for (; Ie;) {
      let t = Ie;
      for (Ie = void 0; t;) {
        let r = t.next;
        if (((t.next = void 0), (t.flags &= -9), t.flags & 1))
          try {
            t.trigger();
          } catch (i) {
            e || (e = i);
          }
        t = r;
      }
    }
    if (e) throw e;
  }
  function Wi(e) {
    for (let t = e.deps; t; t = t.nextDep) ((t.version = -1), (t.prevActiveLink = t.dep.activeLink), (t.dep.activeLink = t));
  }
  function Gi(e) {
    let t,
      r = e.depsTail,
      i = r;
    for (; i;) {
      let n = i.prevDep;
      (i.version === -1 ? (i === r && (r = n), mr(i), ps(i)) : (t = i),
        (i.dep.activeLink = i.prevActiveLink),
        (i.prevActiveLink = void 0),
        (i = n));
    }
    ((e.deps = t), (e.depsTail = r));
  }
  function nr(e) {
    for (let t = e.deps; t; t = t.nextDep)
      if (t.dep.version !== t.version || (t.dep.computed && (fs(t.dep.computed) || t.dep.version !== t.version))) return !0;
    return !!e._dirty;
  }
  function fs(e) {
    if (
      (e.flags & 4 && !(e.flags & 16)) ||
      ((e.flags &= -17), e.globalVersion === ht) ||
      ((e.globalVersion = ht), !e.isSSR && e.flags & 128 && ((!e.deps && !e._dirty) || !nr(e)))
    )
      return;
    e.flags |= 2;
    let t = e.dep,
      r = x,
      i = M;
    ((x = e), (M = !0));
    try {
      Wi(e);
      let n = e.fn(e._value);
      (t.version === 0 || Q(n, e._value)) && ((e.flags |= 128), (e._value = n), t.version++);
    } catch (n) {
      throw (t.version++, n);
    } finally {
      ((x = r), (M = i), Gi(e), (e.flags &= -3));
    }
  }
  function mr(e, t = !1) {
    let { dep: r, prevSub: i, nextSub: n } = e;
    if (
      (i && ((i.nextSub = n), (e.prevSub = void 0)),
      n && ((n.prevSub = i), (e.nextSub = void 0)),
      r.subsHead === e && (r.subsHead = n),
      r.subs === e && ((r.subs = i), !i && r.computed))
    ) {
      r.computed.flags &= -5;
      for (let s = r.computed.deps; s; s = s.nextDep) mr(s, !0);
    }
    !t && !--r.sc && r.map && r.map.delete(r.key);
  }
  function ps(e) {
    let { prevDep: t, nextDep: r } = e;
    (t && ((t.nextDep = r), (e.prevDep = void 0)), r && ((r.prevDep = t), (e.nextDep = void 0)));
  }
  function Yi(e, t) {
    e.effect instanceof dt && (e = e.effect.fn);
    let r = new dt(e);
    t && xe(r, t);
    try {
      r.run();
    } catch (n) {
      throw (r.stop(), n);
    }
    let i = r.run.bind(r);
    return ((i.effect = r), i);
  }
  function Ji(e) {
    e.effect.stop();
  }
  var M = !0,
    Xi = [];
  function ds() {
    (Xi.push(M), (M = !1));
  }
  function hs() {
    let e = Xi.pop();
    M = e === void 0 ? !0 : e;
  }
  function Bi(e) {
    let { cleanup: t } = e;
    if (((e.cleanup = void 0), t)) {
      let r = x;
      x = void 0;
      try {
        t();
      } finally {
        x = r;
      }
    }
  }
  var ht = 0,
    sr = class {
      constructor(t, r) {
        ((this.sub = t),
          (this.dep = r),
          (this.version = r.version),
          (this.nextDep = this.prevDep = this.nextSub = this.prevSub = this.prevActiveLink = void 0));
      }
    },
    or = class {
      constructor(t) {
        ((this.computed = t),
          (this.version = 0),
          (this.activeLink = void 0),
          (this.subs = void 0),
          (this.map = void 0),
          (this.key = void 0),
          (this.sc = 0),
          (this.__v_skip = !0),
          (this.subsHead = void 0));
      }
      track(t) {
        if (!x || !M || x === this.computed) return;
        let r = this.activeLink;
        if (r === void 0 || r.sub !== x)
          ((r = this.activeLink = new sr(x, this)),
            x.deps ? ((r.prevDep = x.depsTail), (x.depsTail.nextDep = r), (x.depsTail = r)) : (x.deps = x.depsTail = r),
            Zi(r));
        else if (r.version === -1 && ((r.version = this.version), r.nextDep)) {
          let i = r.nextDep;
          ((i.prevDep = r.prevDep),
            r.prevDep && (r.prevDep.nextDep = i),
            (r.prevDep = x.depsTail),
            (r.nextDep = void 0),
            (x.depsTail.nextDep = r),
            (x.depsTail = r),
            x.deps === r && (x.deps = i));
        }
        return (x.onTrack && x.onTrack(xe({ effect: x }, t)), r);
      }
      trigger(t) {
        (this.version++, ht++, this.notify(t));
      }
      notify(t) {
        dr();
        try {
          for (let r = this.subsHead; r; r = r.nextSub) r.sub.onTrigger && !(r.sub.flags & 8) && r.sub.onTrigger(xe({ effect: r.sub }, t));
          for (let r = this.subs; r; r = r.prevSub) r.sub.notify() && r.sub.dep.notify();
        } finally {
          hr();
        }
      }
    };
  function Zi(e) {
    if ((e.dep.sc++, e.sub.flags & 4)) {
      let t = e.dep.computed;
      if (t && !e.dep.subs) {
        t.flags |= 20;
        for (let i = t.deps; i; i = i.nextDep) Zi(i);
      }
      let r = e.dep.subs;
      (r !== e && ((e.prevSub = r), r && (r.nextSub = e)), e.dep.subsHead === void 0 && (e.dep.subsHead = e), (e.dep.subs = e));
    }
  }
  var ar = new WeakMap(),
    ce = Symbol("Object iterate"),
    cr = Symbol("Map keys iterate"),
    Ue = Symbol("Array iterate");
  function C(e, t, r) {
    if (M && x) {
      let i = ar.get(e);
      i || ar.set(e, (i = new Map()));
      let n = i.get(r);
      (n || (i.set(r, (n = new or())), (n.map = i), (n.key = r)), n.track({ target: e, type: t, key: r }));
    }
  }
  function ee(e, t, r, i, n, s) {
    let o = ar.get(e);
    if (!o) {
      ht++;
      return;
    }
    let a = (c) => {
      c && c.trigger({ target: e, type: t, key: r, newValue: i, oldValue: n, oldTarget: s });
    };
    if ((dr(), t === "clear")) o.forEach(a);
    else {
      let c = Ee(e),
        l = c && lt(r);
      if (c && r === "length") {
        let u = Number(i);
        o.forEach((f, g) => {
          (g === "length" || g === Ue || (!ve(g) && g >= u)) && a(f);
        });
      } else
        switch (((r !== void 0 || o.has(void 0)) && a(o.get(r)), l && a(o.get(Ue)), t)) {
          case "add":
            c ? l && a(o.get("length")) : (a(o.get(ce)), be(e) && a(o.get(cr)));
            break;
          case "delete":
            c || (a(o.get(ce)), be(e) && a(o.get(cr)));
            break;
          case "set":
            be(e) && a(o.get(ce));
            break;
        }
    }
    hr();
  }
  function Ae(e) {
    let t = E(e);
    return t === e ? t : (C(t, "iterate", Ue), fe(e) ? t : t.map(pe));
  }
  function _r(e) {
    return (C((e = E(e)), "iterate", Ue), e);
  }
  function B(e, t) {
    return ue(e) ? (sn(e) ? je(pe(t)) : je(t)) : pe(t);
  }
  var ms = {
    __proto__: null,
    [Symbol.iterator]() {
      return rr(this, Symbol.iterator, (e) => B(this, e));
    },
    concat(...e) {
      return Ae(this).concat(...e.map((t) => (Ee(t) ? Ae(t) : t)));
    },
    entries() {
      return rr(this, "entries", (e) => ((e[1] = B(this, e[1])), e));
    },
    every(e, t) {
      return Y(this, "every", e, t, void 0, arguments);
    },
    filter(e, t) {
      return Y(this, "filter", e, t, (r) => r.map((i) => B(this, i)), arguments);
    },
    find(e, t) {
      return Y(this, "find", e, t, (r) => B(this, r), arguments);
    },
    findIndex(e, t) {
      return Y(this, "findIndex", e, t, void 0, arguments);
    },
    findLast(e, t) {
      return Y(this, "findLast", e, t, (r) => B(this, r), arguments);
    },
    findLastIndex(e, t) {
      return Y(this, "findLastIndex", e, t, void 0, arguments);
    },
    forEach(e, t) {
      return Y(this, "forEach", e, t, void 0, arguments);
    },
    includes(...e) {
      return ir(this, "includes", e);
    },
    indexOf(...e) {
      return ir(this, "indexOf", e);
    },
    join(e) {
      return Ae(this).join(e);
    },
    lastIndexOf(...e) {
      return ir(this, "lastIndexOf", e);
    },
    map(e, t) {
      return Y(this, "map", e, t, void 0, arguments);
    },
    pop() {
      return Pe(this, "pop");
    },
    push(...e) {
      return Pe(this, "push", e);
    },
    reduce(e, ...t) {
      return Ki(this, "reduce", e, t);
    },
    reduceRight(e, ...t) {
      return Ki(this, "reduceRight", e, t);
    },
    shift() {
      return Pe(this, "shift");
    },
    some(e, t) {
      return Y(this, "some", e, t, void 0, arguments);
    },
    splice(...e) {
      return Pe(this, "splice", e);
    },
    toReversed() {
      return Ae(this).toReversed();
    },
    toSorted(e) {
      return Ae(this).toSorted(e);
    },
    toSpliced(...e) {
      return Ae(this).toSpliced(...e);
    },
    unshift(...e) {
      return Pe(this, "unshift", e);
    },
    values() {
      return rr(this, "values", (e) => B(this, e));
    },
  };
  function rr(e, t, r) {
    let i = _r(e),
      n = i[t]();
    return (
      i !== e &&
        !fe(e) &&
        ((n._next = n.next),
        (n.next = () => {
          let s = n._next();
          return (s.done || (s.value = r(s.value)), s);
        })),
      n
    );
  }
  var _s = Array.prototype;
  function Y(e, t, r, i, n, s) {
    let o = _r(e),
      a = o !== e && !fe(e),
      c = o[t];
    if (c !== _s[t]) {
      let f = c.apply(e, s);
      return a ? pe(f) : f;
    }
    let l = r;
    o !== e &&
      (a
        ? (l = function (f, g) {
            return r.call(this, B(e, f), g, e);
          })
        : r.length > 2 &&
          (l = function (f, g) {
            return r.call(this, f, g, e);
          }));
    let u = c.call(o, l, i);
    return a && n ? n(u) : u;
  }
  function Ki(e, t, r, i) {
    let n = _r(e),
      s = n !== e && !fe(e),
      o = r,
      a = !1;
    n !== e &&
      (s
        ? ((a = i.length === 0),
          (o = function (l, u, f) {
            return (a && ((a = !1), (l = B(e, l))), r.call(this, l, B(e, u), f, e));
          }))
        : r.length > 3 &&
          (o = function (l, u, f) {
            return r.call(this, l, u, f, e);
          }));
    let c = n[t](o, ...i);
    return a ? B(e, c) : c;
  }
  function ir(e, t, r) {
    let i = E(e);
    C(i, "iterate", Ue);
    let n = i[t](...r);
    return (n === -1 || n === !1) && Ts(r[0]) ? ((r[0] = E(r[0])), i[t](...r)) : n;
  }
  function Pe(e, t, r = []) {
    (ds(), dr());
    let i = E(e)[t].apply(e, r);
    return (hr(), hs(), i);
  }
  var gs = Xt("__proto__,__v_isRef,__isVue"),
    Qi = new Set(
      Object.getOwnPropertyNames(Symbol)
        .filter((e) => e !== "arguments" && e !== "caller")
        .map((e) => Symbol[e])
        .filter(ve),
    );
  function ys(e) {
    ve(e) || (e = String(e));
    let t = E(this);
    return (C(t, "has", e), t.hasOwnProperty(e));
  }
  var mt = class {
      constructor(t = !1, r = !1) {
        ((this._isReadonly = t), (this._isShallow = r));
      }
      get(t, r, i) {
        if (r === "__v_skip") return t.__v_skip;
        let n = this._isReadonly,
          s = this._isShallow;
        if (r === "__v_isReactive") return !n;
        if (r === "__v_isReadonly") return n;
        if (r === "__v_isShallow") return s;
        if (r === "__v_raw")
          return i === (n ? (s ? Ss : rn) : s ? Os : tn).get(t) || Object.getPrototypeOf(t) === Object.getPrototypeOf(i) ? t : void 0;
        let o = Ee(t);
        if (!n) {
          let c;
          if (o && (c = ms[r])) return c;
          if (r === "hasOwnProperty") return ys;
        }
        let a = Reflect.get(t, r, Le(t) ? t : i);
        if ((ve(r) ? Qi.has(r) : gs(r)) || (n || C(t, "get", r), s)) return a;
        if (Le(a)) {
          let c = o && lt(r) ? a : a.value;
          return n && we(c) ? pr(c) : c;
        }
        return we(a) ? (n ? pr(a) : _t(a)) : a;
      }
    },
    lr = class extends mt {
      constructor(t = !1) {
        super(!1, t);
      }
      set(t, r, i, n) {
        let s = t[r],
          o = Ee(t) && lt(r);
        if (!this._isShallow) {
          let l = ue(s);
          if ((!fe(i) && !ue(i) && ((s = E(s)), (i = E(i))), !o && Le(s) && !Le(i)))
            return l ? (le(`Set operation on key "${String(r)}" failed: target is readonly.`, t[r]), !0) : ((s.value = i), !0);
        }
        let a = o ? Number(r) < t.length : ct(t, r),
          c = Reflect.set(t, r, i, Le(t) ? t : n);
        return (t === E(n) && c && (a ? Q(i, s) && ee(t, "set", r, i, s) : ee(t, "add", r, i)), c);
      }
      deleteProperty(t, r) {
        let i = ct(t, r),
          n = t[r],
          s = Reflect.deleteProperty(t, r);
        return (s && i && ee(t, "delete", r, void 0, n), s);
      }
      has(t, r) {
        let i = Reflect.has(t, r);
        return ((!ve(r) || !Qi.has(r)) && C(t, "has", r), i);
      }
      ownKeys(t) {
        return (C(t, "iterate", Ee(t) ? "length" : ce), Reflect.ownKeys(t));
      }
    },
    ur = class extends mt {
      constructor(t = !1) {
        super(!0, t);
      }
      set(t, r) {
        return (le(`Set operation on key "${String(r)}" failed: target is readonly.`, t), !0);
      }
      deleteProperty(t, r) {
        return (le(`Delete operation on key "${String(r)}" failed: target is readonly.`, t), !0);
      }
    },
    xs = new lr(),
    Es = new ur();
  var fr = (e) => e,
    ft = (e) => Reflect.getPrototypeOf(e);
  function bs(e, t, r) {
    return function (...i) {
      let n = this.__v_raw,
        s = E(n),
        o = be(s),
        a = e === "entries" || (e === Symbol.iterator && o),
        c = e === "keys" && o,
        l = n[e](...i),
        u = r ? fr : t ? je : pe;
      return (
        !t && C(s, "iterate", c ? cr : ce),
        xe(Object.create(l), {
          next() {
            let { value: f, done: g } = l.next();
            return g ? { value: f, done: g } : { value: a ? [u(f[0]), u(f[1])] : u(f), done: g };
          },
        })
      );
    };
  }
  function pt(e) {
    return function (...t) {
      {
        let r = t[0] ? `on key "${t[0]}" ` : "";
        le(`${Qt(e)} operation ${r}failed: target is readonly.`, E(this));
      }
      return e === "delete" ? !1 : e === "clear" ? void 0 : this;
    };
  }
  function vs(e, t) {
    let r = {
      get(n) {
        let s = this.__v_raw,
          o = E(s),
          a = E(n);
        e || (Q(n, a) && C(o, "get", n), C(o, "get", a));
        let { has: c } = ft(o),
          l = t ? fr : e ? je : pe;
        if (c.call(o, n)) return l(s.get(n));
        if (c.call(o, a)) return l(s.get(a));
        s !== o && s.get(n);
      },
      get size() {
        let n = this.__v_raw;
        return (!e && C(E(n), "iterate", ce), n.size);
      },
      has(n) {
        let s = this.__v_raw,
          o = E(s),
          a = E(n);
        return (e || (Q(n, a) && C(o, "has", n), C(o, "has", a)), n === a ? s.has(n) : s.has(n) || s.has(a));
      },
      forEach(n, s) {
        let o = this,
          a = o.__v_raw,
          c = E(a),
          l = t ? fr : e ? je : pe;
        return (!e && C(c, "iterate", ce), a.forEach((u, f) => n.call(s, l(u), l(f), o)));
      },
    };
    return (
      xe(
        r,
        e
          ? { add: pt("add"), set: pt("set"), delete: pt("delete"), clear: pt("clear") }
          : {
              add(n) {
                let s = E(this),
                  o = ft(s),
                  a = E(n),
                  c = !t && !fe(n) && !ue(n) ? a : n;
                return (
                  o.has.call(s, c) || (Q(n, c) && o.has.call(s, n)) || (Q(a, c) && o.has.call(s, a)) || (s.add(c), ee(s, "add", c, c)),
                  this
                );
              },
              set(n, s) {
                !t && !fe(s) && !ue(s) && (s = E(s));
                let o = E(this),
                  { has: a, get: c } = ft(o),
                  l = a.call(o, n);
                l ? qi(o, a, n) : ((n = E(n)), (l = a.call(o, n)));
                let u = c.call(o, n);
                return (o.set(n, s), l ? Q(s, u) && ee(o, "set", n, s, u) : ee(o, "add", n, s), this);
              },
              delete(n) {
                let s = E(this),
                  { has: o, get: a } = ft(s),
                  c = o.call(s, n);
                c ? qi(s, o, n) : ((n = E(n)), (c = o.call(s, n)));
                let l = a ? a.call(s, n) : void 0,
                  u = s.delete(n);
                return (c && ee(s, "delete", n, void 0, l), u);
              },
              clear() {
                let n = E(this),
                  s = n.size !== 0,
                  o = be(n) ? new Map(n) : new Set(n),
                  a = n.clear();
                return (s && ee(n, "clear", void 0, void 0, o), a);
              },
            },
      ),
      ["keys", "values", "entries", Symbol.iterator].forEach((n) => {
        r[n] = bs(n, e, t);
      }),
      r
    );
  }
  function en(e, t) {
    let r = vs(e, t);
    return (i, n, s) =>
      n === "__v_isReactive" ? !e : n === "__v_isReadonly" ? e : n === "__v_raw" ? i : Reflect.get(ct(r, n) && n in i ? r : i, n, s);
  }
  var ws = { get: en(!1, !1) };
  var As = { get: en(!0, !1) };
  function qi(e, t, r) {
    let i = E(r);
    if (i !== r && t.call(e, i)) {
      let n = Zt(e);
      le(
        `Reactive ${n} contains both the raw and reactive versions of the same object${n === "Map" ? " as keys" : ""}, which can lead to inconsistencies. Avoid differentiating between the raw and reactive versions of an object and only use the reactive version if possible.`,
      );
    }
  }
  var tn = new WeakMap(),
    Os = new WeakMap(),
    rn = new WeakMap(),
    Ss = new WeakMap();
  function Ns(e) {
    switch (e) {
      case "Object":
      case "Array":
        return 1;
      case "Map":
      case "Set":
      case "WeakMap":
      case "WeakSet":
        return 2;
      default:
        return 0;
    }
  }
  function _t(e) {
    return ue(e) ? e : nn(e, !1, xs, ws, tn);
  }
  function pr(e) {
    return nn(e, !0, Es, As, rn);
  }
  function nn(e, t, r, i, n) {
    if (!we(e)) return (le(`value cannot be made ${t ? "readonly" : "reactive"}: ${String(e)}`), e);
    if ((e.__v_raw && !(t && e.__v_isReactive)) || e.__v_skip || !Object.isExtensible(e)) return e;
    let s = n.get(e);
    if (s) return s;
    let o = Ns(Zt(e));
    if (o === 0) return e;
    let a = new Proxy(e, o === 2 ? i : r);
    return (n.set(e, a), a);
  }
  function sn(e) {
    return ue(e) ? sn(e.__v_raw) : !!(e && e.__v_isReactive);
  }
  function ue(e) {
    return !!(e && e.__v_isReadonly);
  }
  function fe(e) {
    return !!(e && e.__v_isShallow);
  }
  function Ts(e) {
    return e ? !!e.__v_raw : !1;
  }
  function E(e) {
    let t = e && e.__v_raw;
    return t ? E(t) : e;
  }
  var pe = (e) => (we(e) ? _t(e) : e),
    je = (e) => (we(e) ? pr(e) : e);
  function Le(e) {
    return e ? e.__v_isRef === !0 : !1;
  }
  v("nextTick", () => ye);
  v("dispatch", (e) => se.bind(se, e));
  v("watch", (e, { evaluateLater: t, cleanup: r }) => (i, n) => {
    let s = t(i),
      a = $e(() => {
        let c;
        return (s((l) => (c = l)), c);
      }, n);
    r(a);
  });
  v("store", Ri);
  v("data", (e) => ze(e));
  v("root", (e) => oe(e));
  v("refs", (e) => (e._x_refs_proxy || (e._x_refs_proxy = P(Cs(e))), e._x_refs_proxy));
  function Cs(e) {
    let t = [];
    return (
      N(e, (r) => {
        r._x_refs && t.push(r._x_refs);
      }),
      t
    );
  }
  var gr = {};
  function yr(e) {
    return (gr[e] || (gr[e] = 0), ++gr[e]);
  }
  function on(e, t) {
    return N(e, (r) => {
      if (r._x_ids && r._x_ids[t]) return !0;
    });
  }
  function an(e, t) {
    (e._x_ids || (e._x_ids = {}), e._x_ids[t] || (e._x_ids[t] = yr(t)));
  }
  v("id", (e, { cleanup: t }) => (r, i = null) => {
    let n = `${r}${i ? `-${i}` : ""}`;
    return Rs(e, n, t, () => {
      let s = on(e, r),
        o = s ? s._x_ids[r] : yr(r);
      return i ? `${r}-${o}-${i}` : `${r}-${o}`;
    });
  });
  H((e, t) => {
    e._x_id && (t._x_id = e._x_id);
  });
  function Rs(e, t, r, i) {
    if ((e._x_id || (e._x_id = {}), e._x_id[t])) return e._x_id[t];
    let n = i();
    return (
      (e._x_id[t] = n),
      r(() => {
        delete e._x_id[t];
      }),
      n
    );
  }
  v("el", (e) => e);
  cn("Focus", "focus", "focus");
  cn("Persist", "persist", "persist");
  function cn(e, t, r) {
    v(t, (i) => T(`You can't use [$${t}] without first installing the "${e}" plugin here: https://alpinejs.dev/plugins/${r}`, i));
  }
  h("modelable", (e, { expression: t }, { effect: r, evaluateLater: i, cleanup: n }) => {
    let s = i(t),
      o = () => {
        let u;
        return (s((f) => (u = f)), u);
      },
      a = i(`${t} = __placeholder`),
      c = (u) => a(() => {}, { scope: { __placeholder: u } }),
      l = o();
    (c(l),
      queueMicrotask(() => {
        if (!e._x_model) return;
        e._x_removeModelListeners.default();
        let u = e._x_model.get,
          f = e._x_model.setWithModifiers,
          g = at(
            {
              get() {
                return u();
              },
              set(m) {
                f(m);
              },
            },
            {
              get() {
                return o();
              },
              set(m) {
                c(m);
              },
            },
          );
        n(g);
      }));
  });
  h("teleport", (e, { modifiers: t, expression: r }, { cleanup: i }) => {
    e.tagName.toLowerCase() !== "template" && T("x-teleport can only be used on a <template> tag", e);
    let n = ln(r),
      s = e.content.cloneNode(!0).firstElementChild;
    ((e._x_teleport = s),
      (s._x_teleportBack = e),
      e.setAttribute("data-teleport-template", !0),
      s.setAttribute("data-teleport-target", !0),
      e._x_forwardEvents &&
        e._x_forwardEvents.forEach((a) => {
          s.addEventListener(a, (c) => {
            (c.stopPropagation(), e.dispatchEvent(new c.constructor(c.type, c)));
          });
        }),
      F(s, {}, e));
    let o = (a, c, l) => {
      l.includes("prepend")
        ? c.parentNode.insertBefore(a, c)
        : l.includes("append")
          ? c.parentNode.insertBefore(a, c.nextSibling)
          : c.appendChild(a);
    };
    (_(() => {
      O(() => {
        (o(s, n, t), S(s));
      })();
    }),
      (e._x_teleportPutBack = () => {
        let a = ln(r);
        _(() => {
          o(e._x_teleport, a, t);
        });
      }),
      i(() =>
        _(() => {
          (s.remove(), k(s));
        }),
      ));
  });
  var ks = document.createElement("div");
  function ln(e) {
    let t = O(
      () => document.querySelector(e),
      () => ks,
    )();
    return (t || T(`Cannot find x-teleport element for selector: "${e}"`), t);
  }
  var un = () => {};
  un.inline = (e, { modifiers: t }, { cleanup: r }) => {
    (t.includes("self") ? (e._x_ignoreSelf = !0) : (e._x_ignore = !0),
      r(() => {
        t.includes("self") ? delete e._x_ignoreSelf : delete e._x_ignore;
      }));
  };
  h("ignore", un);
  h(
    "effect",
    O((e, { expression: t }, { effect: r }) => {
      r(b(e, t));
    }),
  );
  function J(e, t, r, i) {
    let n = e,
      s = (c) => i(c),
      o = {},
      a = (c, l) => (u) => l(c, u);
    return (
      r.includes("dot") && (t = Ds(t)),
      r.includes("camel") && (t = Ps(t)),
      r.includes("capture") && (o.capture = !0),
      r.includes("window") && (n = window),
      r.includes("document") && (n = document),
      r.includes("passive") && (o.passive = r[r.indexOf("passive") + 1] !== "false"),
      (s = xr(r, s)),
      r.includes("prevent") &&
        (s = a(s, (c, l) => {
          (l.preventDefault(), c(l));
        })),
      r.includes("stop") &&
        (s = a(s, (c, l) => {
          (l.stopPropagation(), c(l));
        })),
      r.includes("once") &&
        (s = a(s, (c, l) => {
          (c(l), n.removeEventListener(t, s, o));
        })),
      (r.includes("away") || r.includes("outside")) &&
        ((n = document),
        (s = a(s, (c, l) => {
          e.contains(l.target) ||
            (l.target.isConnected !== !1 && ((e.offsetWidth < 1 && e.offsetHeight < 1) || (e._x_isShown !== !1 && c(l))));
        }))),
      r.includes("self") &&
        (s = a(s, (c, l) => {
          l.target === e && c(l);
        })),
      t === "submit" &&
        (s = a(s, (c, l) => {
          (l.target._x_pendingModelUpdates && l.target._x_pendingModelUpdates.forEach((u) => u()), c(l));
        })),
      (Ms(t) || pn(t)) &&
        (s = a(s, (c, l) => {
          Us(l, r) || c(l);
        })),
      n.addEventListener(t, s, o),
      () => {
        n.removeEventListener(t, s, o);
      }
    );
  }
  function xr(e, t) {
    if (e.includes("debounce")) {
      let r = e[e.indexOf("debounce") + 1] || "invalid-wait",
        i = gt(r.split("ms")[0]) ? Number(r.split("ms")[0]) : 250;
      t = st(t, i);
    }
    if (e.includes("throttle")) {
      let r = e[e.indexOf("throttle") + 1] || "invalid-wait",
        i = gt(r.split("ms")[0]) ? Number(r.split("ms")[0]) : 250;
      t = ot(t, i);
    }
    return t;
  }
  function Ds(e) {
    return e.replace(/-/g, ".");
  }
  function Ps(e) {
    return e.toLowerCase().replace(/-(\w)/g, (t, r) => r.toUpperCase());
  }
  function gt(e) {
    return !Array.isArray(e) && !isNaN(e);
  }
  function Is(e) {
    return [" ", "_"].includes(e)
      ? e
      : e
          .replace(/([a-z])([A-Z])/g, "$1-$2")
          .replace(/[_\s]/, "-")
          .toLowerCase();
  }
  function Ms(e) {
    return ["keydown", "keyup"].includes(e);
  }
  function pn(e) {
    return ["contextmenu", "click", "mouse"].some((t) => e.includes(t));
  }
  var Ls = [
    "window",
    "document",
    "prevent",
    "stop",
    "once",
    "capture",
    "self",
    "away",
    "outside",
    "passive",
    "dot",
    "camel",
    "preserve-scroll",
    "blur",
    "change",
    "lazy",
    "number",
    "boolean",
    "trim",
    "fill",
    "unintrusive",
    "parent",
  ];
  function Us(e, t) {
    let r = t.filter((s, o) => (s === "false" && t[o - 1] === "passive" ? !1 : !Ls.includes(s)));
    if (r.includes("debounce")) {
      let s = r.indexOf("debounce");
      r.splice(s, gt((r[s + 1] || "invalid-wait").split("ms")[0]) ? 2 : 1);
    }
    if (r.includes("throttle")) {
      let s = r.indexOf("throttle");
      r.splice(s, gt((r[s + 1] || "invalid-wait").split("ms")[0]) ? 2 : 1);
    }
    if (r.length === 0 || (r.length === 1 && fn(e.key).includes(r[0]))) return !1;
    let n = ["ctrl", "shift", "alt", "meta", "cmd", "super"].filter((s) => r.includes(s));
    return (
      (r = r.filter((s) => !n.includes(s))),
      !(
        n.length > 0 &&
        n.filter((o) => ((o === "cmd" || o === "super") && (o = "meta"), e[`${o}Key`])).length === n.length &&
        (pn(e.type) || fn(e.key).includes(r[0]))
      )
    );
  }
  function fn(e) {
    if (!e) return [];
    e = Is(e);
    let t = {
      ctrl: "control",
      slash: "/",
      space: " ",
      spacebar: " ",
      cmd: "meta",
      esc: "escape",
      up: "arrow-up",
      down: "arrow-down",
      left: "arrow-left",
      right: "arrow-right",
      period: ".",
      comma: ",",
      equal: "=",
      minus: "-",
      underscore: "_",
    };
    return (
      (t[e] = e),
      Object.keys(t)
        .map((r) => {
          if (t[r] === e) return r;
        })
        .filter((r) => r)
    );
  }
  h("model", (e, { modifiers: t, expression: r }, { effect: i, cleanup: n }) => {
    let s = e;
    t.includes("parent") && (s = N(e, (d) => d !== e));
    let o = b(s, r),
      a;
    typeof r == "string"
      ? (a = b(s, `${r} = __placeholder`))
      : typeof r == "function" && typeof r() == "string"
        ? (a = b(s, `${r()} = __placeholder`))
        : (a = () => {});
    let c = () => {
        let d;
        return (o((w) => (d = w)), dn(d) ? d.get() : d);
      },
      l = (d) => {
        let w;
        (o((p) => (w = p)), dn(w) ? w.set(d) : a(() => {}, { scope: { __placeholder: d } }));
      };
    typeof r == "string" &&
      e.type === "radio" &&
      _(() => {
        e.hasAttribute("name") || e.setAttribute("name", r);
      });
    let u = t.includes("change") || t.includes("lazy"),
      f = t.includes("blur"),
      g = t.includes("enter"),
      m = u || f || g,
      L;
    if (V) L = () => {};
    else if (m) {
      let d = [],
        w = (p) => l(yt(e, t, p, c()));
      if ((u && d.push(J(e, "change", t, w)), f && (d.push(J(e, "blur", t, w)), e.form))) {
        let p = e.form,
          y = () => w({ target: e });
        (p._x_pendingModelUpdates || (p._x_pendingModelUpdates = []),
          p._x_pendingModelUpdates.push(y),
          n(() => {
            p._x_pendingModelUpdates && p._x_pendingModelUpdates.splice(p._x_pendingModelUpdates.indexOf(y), 1);
          }));
      }
      (g &&
        d.push(
          J(e, "keydown", t, (p) => {
            p.key === "Enter" && w(p);
          }),
        ),
        (L = () => d.forEach((p) => p())));
    } else {
      let d = e.tagName.toLowerCase() === "select" || ["checkbox", "radio"].includes(e.type) ? "change" : "input";
      L = J(e, d, t, (w) => {
        l(yt(e, t, w, c()));
      });
    }
    if (
      (t.includes("fill") &&
        ([void 0, null, ""].includes(c()) || (De(e) && Array.isArray(c())) || (e.tagName.toLowerCase() === "select" && e.multiple)) &&
        l(yt(e, t, { target: e }, c())),
      e._x_removeModelListeners || (e._x_removeModelListeners = {}),
      (e._x_removeModelListeners.default = L),
      n(() => e._x_removeModelListeners.default()),
      e.form)
    ) {
      let d = J(e.form, "reset", [], (w) => {
        ye(() => e._x_model && e._x_model.set(yt(e, t, { target: e }, c())));
      });
      n(() => d());
    }
    if (
      ((e._x_model = {
        get() {
          return c();
        },
        set(d) {
          l(d);
        },
        setWithModifiers: xr(t, l),
      }),
      (e._x_forceModelUpdate = (d) => {
        (d === void 0 && typeof r == "string" && r.match(/\./) && (d = ""),
          _(() => {
            De(e)
              ? Array.isArray(d)
                ? (e.checked = d.some((w) => w == e.value))
                : (e.checked = !!d)
              : nt(e)
                ? typeof d == "boolean"
                  ? (e.checked = ke(e.value) === d)
                  : (e.checked = e.value == d)
                : Re(e, "value", d);
          }));
      }),
      e.tagName === "SELECT")
    ) {
      let d = new MutationObserver(() => {
        e._x_forceModelUpdate(c());
      });
      (d.observe(e, { childList: !0 }), n(() => d.disconnect()));
    }
    i(() => {
      let d = c();
      (t.includes("unintrusive") && document.activeElement.isSameNode(e)) || e._x_forceModelUpdate(d);
    });
  });
  function yt(e, t, r, i) {
    return _(() => {
      if (r instanceof CustomEvent && r.detail !== void 0) return r.detail !== null && r.detail !== void 0 ? r.detail : r.target.value;
      if (De(e))
        if (Array.isArray(i)) {
          let n = null;
          return (
            t.includes("number") ? (n = Er(r.target.value)) : t.includes("boolean") ? (n = ke(r.target.value)) : (n = r.target.value),
            r.target.checked ? (i.includes(n) ? i : i.concat([n])) : i.filter((s) => !js(s, n))
          );
        } else return r.target.checked;
      else {
        if (e.tagName.toLowerCase() === "select" && e.multiple)
          return t.includes("number")
            ? Array.from(r.target.selectedOptions).map((n) => {
                let s = n.value || n.text;
                return Er(s);
              })
            : t.includes("boolean")
              ? Array.from(r.target.selectedOptions).map((n) => {
                  let s = n.value || n.text;
                  return ke(s);
                })
              : Array.from(r.target.selectedOptions).map((n) => n.value || n.text);
        {
          let n;
          return (
            nt(e) ? (r.target.checked ? (n = r.target.value) : (n = i)) : (n = r.target.value),
            t.includes("number") ? Er(n) : t.includes("boolean") ? ke(n) : t.includes("trim") ? n.trim() : n
          );
        }
      }
    });
  }
  function Er(e) {
    let t = e ? parseFloat(e) : null;
    return Fs(t) ? t : e;
  }
  function js(e, t) {
    return e == t;
  }
  function Fs(e) {
    return !Array.isArray(e) && !isNaN(e);
  }
  function dn(e) {
    return e !== null && typeof e == "object" && typeof e.get == "function" && typeof e.set == "function";
  }
  h("cloak", (e) => queueMicrotask(() => _(() => e.removeAttribute(R("cloak")))));
  tt(() => `[${R("init")}]`);
  h(
    "init",
    O((e, { expression: t }, { evaluate: r }) => (typeof t == "string" ? !!t.trim() && r(t, {}, !1) : r(t, {}, !1))),
  );
  h("text", (e, { expression: t }, { effect: r, evaluateLater: i }) => {
    let n = i(t);
    r(() => {
      n((s) => {
        _(() => {
          e.textContent = s;
        });
      });
    });
  });
  h("html", (e, { expression: t }, { effect: r, evaluateLater: i }) => {
    let n = i(t);
    r(
      () => {
        n((s) => {
          _(() => {
            (Array.from(e.children).forEach((o) => k(o)), (e.innerHTML = s ?? ""), (e._x_ignoreSelf = !0), S(e), delete e._x_ignoreSelf);
          });
        });
      },
      { priority: "structural" },
    );
  });
  ge(Je(":", Xe(R("bind:"))));
  var hn = (e, { value: t, modifiers: r, expression: i, original: n }, { effect: s, cleanup: o }) => {
    if (!t) {
      let c = {};
      (Pi(c),
        b(e, i)(
          (u) => {
            zt(e, u, n);
          },
          { scope: c },
        ));
      return;
    }
    if (t === "key") return $s(e, i);
    if (e._x_inlineBindings && e._x_inlineBindings[t] && e._x_inlineBindings[t].extract) return;
    let a = b(e, i);
    (s(() =>
      a((c) => {
        (c === void 0 && typeof i == "string" && i.match(/\./) && (c = ""), _(() => Re(e, t, c, r)));
      }),
    ),
      o(() => {
        (e._x_undoAddedClasses && e._x_undoAddedClasses(), e._x_undoAddedStyles && e._x_undoAddedStyles());
      }));
  };
  hn.inline = (e, { value: t, modifiers: r, expression: i }) => {
    t && (e._x_inlineBindings || (e._x_inlineBindings = {}), (e._x_inlineBindings[t] = { expression: i, extract: !1 }));
  };
  h("bind", hn);
  function $s(e, t) {
    e._x_keyExpression = t;
  }
  et(() => `[${R("data")}]`);
  var de = Symbol();
  h("data", (e, { expression: t }, { cleanup: r }) => {
    if (Hs(e)) return;
    let i = e[de];
    if (i?.expression === t) return;
    t = t === "" ? "{}" : t;
    let n = {};
    X(n, e);
    let s = {};
    Li(s, n);
    let o = I(e, t, { scope: s });
    ((o === void 0 || o === !0) && (o = {}), X(o, e));
    let a;
    if (i?.reactiveData) {
      ((a = i.reactiveData), Vs(a, o));
      let l = { expression: t };
      ((e[de] = l),
        queueMicrotask(() => {
          e[de] === l && delete e[de];
        }));
    } else a = D(o);
    _e(a, r);
    let c = F(e, a);
    (O(() => {
      a.init && I(e, a.init);
    })(),
      r(() => {
        (a.destroy && I(e, a.destroy), c());
        let l = { reactiveData: a };
        ((e[de] = l),
          queueMicrotask(() => {
            e[de] === l && delete e[de];
          }));
      }));
  });
  function Vs(e, t) {
    (Object.keys(t).forEach((r) => {
      let i = Object.getOwnPropertyDescriptor(t, r),
        n = Object.getOwnPropertyDescriptor(e, r);
      i.get || i.set || n?.get || n?.set
        ? (n && delete e[r], n || (e[r] = void 0), i.get || i.set ? Object.defineProperty(e, r, i) : (e[r] = t[r]))
        : (e[r] = t[r]);
    }),
      Object.keys(e)
        .filter((r) => !Object.prototype.hasOwnProperty.call(t, r))
        .forEach((r) => delete e[r]));
  }
  H((e, t) => {
    e._x_dataStack && ((t._x_dataStack = e._x_dataStack), t.setAttribute("data-has-alpine-state", !0));
  });
  function Hs(e) {
    return V ? (Ze ? !0 : e.hasAttribute("data-has-alpine-state")) : !1;
  }
  h("show", (e, { modifiers: t, expression: r }, { effect: i }) => {
    let n = b(e, r);
    (e._x_doHide ||
      (e._x_doHide = () => {
        _(() => {
          e.style.setProperty("display", "none", t.includes("important") ? "important" : void 0);
        });
      }),
      e._x_doShow ||
        (e._x_doShow = () => {
          _(() => {
            e.style.length === 1 && e.style.display === "none" ? e.removeAttribute("style") : e.style.removeProperty("display");
          });
        }));
    let s = () => {
        (e._x_doHide(), (e._x_isShown = !1));
      },
      o = () => {
        (e._x_doShow(), (e._x_isShown = !0));
      },
      a = () => setTimeout(o),
      c = Te(
        (f) => (f ? o() : s()),
        (f) => {
          typeof e._x_toggleAndCascadeWithTransitions == "function" ? e._x_toggleAndCascadeWithTransitions(e, f, o, s) : f ? a() : s();
        },
      ),
      l,
      u = !0;
    i(() =>
      n((f) => {
        (!u && f === l) || (t.includes("immediate") && (f ? a() : s()), c(f), (l = f), (u = !1));
      }),
    );
  });
  h(
    "for",
    O((e, { expression: t }, { effect: r, cleanup: i }) => {
      let n = qs(t),
        s = b(e, n.items),
        o = b(e, e._x_keyExpression || "index");
      ((e._x_lookup = new Map()),
        r(() => Ks(e, n, s, o), { priority: "structural" }),
        i(() => {
          (e._x_lookup.forEach((a) =>
            _(() => {
              (k(a), a.remove());
            }),
          ),
            delete e._x_lookup,
            delete e._x_lastRenderedEl);
        }));
    }),
  );
  function Bs(e) {
    return (t) => {
      Object.entries(t).forEach(([r, i]) => {
        e[r] = i;
      });
    };
  }
  function Ks(e, t, r, i) {
    r((n) => {
      (Ws(n) && (n = Array.from({ length: n }, (l, u) => u + 1)),
        n == null && (n = []),
        n instanceof Set && (n = Array.from(n)),
        n instanceof Map && (n = Array.from(n)));
      let s = e._x_lookup,
        o = new Map();
      e._x_lookup = o;
      let a = Gs(n),
        c = Object.entries(n).map(([l, u]) => {
          a || (l = parseInt(l));
          let f = zs(t, u, l, n),
            g;
          return (
            i(
              (m) => {
                (typeof m == "object" && T("x-for key cannot be an object, it must be a string or an integer", e),
                  s.has(m) && (o.set(m, s.get(m)), s.delete(m)),
                  (g = m));
              },
              { scope: { index: l, ...f } },
            ),
            [g, f]
          );
        });
      _(() => {
        s.forEach((f) => {
          (k(f), f.remove());
        });
        let l = new Set(),
          u = e;
        (c.forEach(([f, g]) => {
          if (o.has(f)) {
            let d = o.get(f);
            (d._x_refreshXForScope(g),
              u.nextElementSibling !== d && (u.nextElementSibling && d.replaceWith(u.nextElementSibling), u.after(d)),
              (u = d),
              d._x_currentIfEl && (d.nextElementSibling !== d._x_currentIfEl && u.after(d._x_currentIfEl), (u = d._x_currentIfEl)));
            return;
          }
          e.content.children.length > 1 && T("x-for templates require a single root element, additional elements will be ignored.", e);
          let m = document.importNode(e.content, !0).firstElementChild,
            L = D(g);
          (F(m, L, e), (m._x_refreshXForScope = Bs(L)), o.set(f, m), l.add(m), u.after(m), (u = m));
        }),
          l.forEach((f) => S(f)),
          u !== e ? (e._x_lastRenderedEl = u) : delete e._x_lastRenderedEl);
      });
    });
  }
  function qs(e) {
    let t = /,([^,\}\]]*)(?:,([^,\}\]]*))?$/,
      r = /^\s*\(|\)\s*$/g,
      i = /([\s\S]*?)\b(?:in|of)\b([\s\S]*)/,
      n = e.match(i);
    if (!n) return;
    let s = {};
    s.items = n[2].trim();
    let o = n[1].replace(r, "").trim(),
      a = o.match(t);
    return (a ? ((s.item = o.replace(t, "").trim()), (s.index = a[1].trim()), a[2] && (s.collection = a[2].trim())) : (s.item = o), s);
  }
  function zs(e, t, r, i) {
    let n = {};
    return (
      /^\[.*\]$/.test(e.item) && Array.isArray(t)
        ? e.item
            .replace("[", "")
            .replace("]", "")
            .split(",")
            .map((o) => o.trim())
            .forEach((o, a) => {
              n[o] = t[a];
            })
        : /^\{.*\}$/.test(e.item) && !Array.isArray(t) && typeof t == "object"
          ? e.item
              .replace("{", "")
              .replace("}", "")
              .split(",")
              .map((o) => o.trim())
              .forEach((o) => {
                n[o] = t[o];
              })
          : (n[e.item] = t),
      e.index && (n[e.index] = r),
      e.collection && (n[e.collection] = i),
      n
    );
  }
  function Ws(e) {
    return typeof e != "object" && !isNaN(e);
  }
  function Gs(e) {
    return typeof e == "object" && !Array.isArray(e);
  }
  function mn() {}
  mn.inline = (e, { expression: t }, { cleanup: r }) => {
    let i = oe(e);
    i && (i._x_refs || (i._x_refs = {}), (i._x_refs[t] = e), r(() => delete i._x_refs[t]));
  };
  h("ref", mn);
  h(
    "if",
    O((e, { expression: t }, { effect: r, cleanup: i }) => {
      e.tagName.toLowerCase() !== "template" && T("x-if can only be used on a <template> tag", e);
      let n = b(e, t),
        s = () => {
          if (e._x_currentIfEl) return e._x_currentIfEl;
          let a = e.content.cloneNode(!0).firstElementChild;
          return (
            F(a, {}, e),
            _(() => {
              (e.after(a), S(a));
            }),
            (e._x_currentIfEl = a),
            (e._x_lastRenderedEl = a),
            (e._x_undoIf = () => {
              (_(() => {
                (k(a), a.remove());
              }),
                delete e._x_currentIfEl,
                delete e._x_lastRenderedEl);
            }),
            a
          );
        },
        o = () => {
          e._x_undoIf && (e._x_undoIf(), delete e._x_undoIf);
        };
      (r(
        () =>
          n((a) => {
            a ? s() : o();
          }),
        { priority: "structural" },
      ),
        i(() => e._x_undoIf && e._x_undoIf()));
    }),
  );
  h("id", (e, { expression: t }, { evaluate: r }) => {
    r(t).forEach((n) => an(e, n));
  });
  H((e, t) => {
    e._x_ids && (t._x_ids = e._x_ids);
  });
  ge(Je("@", Xe(R("on:"))));
  h(
    "on",
    O((e, { value: t, modifiers: r, expression: i }, { cleanup: n }) => {
      let s = i ? b(e, i) : () => {};
      e.tagName.toLowerCase() === "template" &&
        (e._x_forwardEvents || (e._x_forwardEvents = []), e._x_forwardEvents.includes(t) || e._x_forwardEvents.push(t));
      let o = J(e, t, r, (a) => {
        s(() => {}, { scope: { $event: a }, params: [a] });
      });
      n(() => o());
    }),
  );
  xt("Collapse", "collapse", "collapse");
  xt("Intersect", "intersect", "intersect");
  xt("Focus", "trap", "focus");
  xt("Mask", "mask", "mask");
  function xt(e, t, r) {
    h(t, (i) => T(`You can't use [x-${t}] without first installing the "${e}" plugin here: https://alpinejs.dev/plugins/${r}`, i));
  }
  h("html", (e, { expression: t }) => {
    re(new Error("Using the x-html directive is prohibited in the CSP build"), e);
  });
  W.setEvaluator($i);
  W.setRawEvaluator(Fi);
  W.setReactivityEngine({
    reactive: _t,
    effect: (e, t = {}) => {
      let r;
      return (
        (r = Yi(e, {
          scheduler: () => {
            r && (t.scheduler ? t.scheduler(r) : r());
          },
        })),
        r
      );
    },
    release: Ji,
    raw: E,
  });
  var br = W;
  window.Alpine = br;
  queueMicrotask(() => {
    br.start();
  });
})();
/*! Bundled license information:

@vue/shared/dist/shared.esm-bundler.js:
  (**
  * @vue/shared v3.5.41
  * (c) 2018-present Yuxi (Evan) You and Vue contributors
  * @license MIT
  **)

@vue/reactivity/dist/reactivity.esm-bundler.js:
  (**
  * @vue/reactivity v3.5.41
  * (c) 2018-present Yuxi (Evan) You and Vue contributors
  * @license MIT
  **)
*/
